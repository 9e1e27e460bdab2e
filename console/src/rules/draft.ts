import { api, ApiError, basedOn, readDraft, take, words, type RuleFile } from "../api/client";

export type Saving = "saved" | "unsaved" | "saving" | "changed elsewhere" | "failed";

/** A draft that is being edited, and whether it is saved. */
export interface Work {
  files: RuleFile[];
  /** Revision that the draft is based on. */
  base: number;
  /** Version of the draft in the service; 0: there is none, and the files are those in force. */
  version: number;
  savedAt: string;
  saving: Saving;
  error: string;
}

const pause = 500;

/**
 * Keeps the draft of a person in the service: loads it, or the files in force
 * when there is none, and saves every change half a second later. Saves follow
 * one another, so that each is based on the version before.
 */
export class DraftKeeper {
  private work: Work | null = null;
  private failure = "";
  private listeners = new Set<() => void>();
  private timer: ReturnType<typeof setTimeout> | undefined;
  private running: Promise<void> | null = null;
  private epoch = 0;

  constructor(private readonly bundle: string) {}

  subscribe = (listener: () => void): (() => void) => {
    this.listeners.add(listener);
    return () => this.listeners.delete(listener);
  };
  current = (): Work | null => this.work;
  /** Why the draft could not be read. */
  problem = (): string => this.failure;

  private set(work: Work | null) {
    this.work = work;
    this.listeners.forEach((l) => l());
  }

  /** Reads the saved draft; unsaved changes are lost. */
  async load(): Promise<void> {
    const epoch = ++this.epoch;
    clearTimeout(this.timer);
    try {
      const draft = await readDraft(this.bundle);
      const kept = { saving: "saved" as const, error: "" };
      const next: Work = draft
        ? { files: draft.files ?? [], base: draft.base, version: draft.version, savedAt: draft.at, ...kept }
        : await take(api.GET("/api/v1/revisions/{number}", { params: { path: { number: "0" } } })).then((r) => ({ files: r.bundles?.[this.bundle] ?? [], base: r.number, version: 0, savedAt: "", ...kept }));
      if (epoch === this.epoch) {
        this.failure = "";
        this.set(next);
      }
    } catch (e) {
      if (epoch !== this.epoch) return;
      this.failure = words(e);
      this.set(this.work ? { ...this.work, error: words(e) } : null);
      if (!this.work) this.timer = setTimeout(() => void this.load(), 4 * pause); // the service may come back
    }
  }

  /** Follows the rules in force as long as there is no draft. */
  follow(revision: number): void {
    if (this.work?.version === 0 && this.work.saving === "saved" && this.work.base !== revision) void this.load();
  }

  change(next: Partial<Pick<Work, "files" | "base">>): void {
    if (!this.work) return;
    this.set({ ...this.work, ...next, saving: "unsaved" });
    this.soon(pause);
  }

  private soon(ms: number) {
    clearTimeout(this.timer);
    this.timer = setTimeout(() => void this.flush(), ms);
  }

  /** Saves unsaved changes. */
  async flush(): Promise<void> {
    clearTimeout(this.timer);
    if (this.running) await this.running;
    if (!this.work || this.work.saving === "saved") return;
    this.running = this.save(this.work);
    await this.running;
    this.running = null;
  }

  private async save(w: Work): Promise<void> {
    const epoch = this.epoch;
    this.set({ ...w, saving: "saving" });
    try {
      const d = await take(api.PUT("/api/v1/drafts/{bundle}", {
        params: { path: { bundle: this.bundle }, header: basedOn(w.version) }, body: { base: w.base, files: w.files },
      }));
      if (epoch !== this.epoch || !this.work) return;
      const whole = this.work.files === w.files && this.work.base === w.base;
      this.set({ ...this.work, version: d.version, savedAt: d.at, error: "", saving: whole ? "saved" : "unsaved" });
      if (!whole) this.soon(pause);
    } catch (e) {
      if (epoch !== this.epoch || !this.work) return;
      const elsewhere = e instanceof ApiError && e.problem.code === "draft-changed";
      this.set({ ...this.work, error: words(e), saving: elsewhere ? "changed elsewhere" : "failed" });
      if (!elsewhere) this.soon(4 * pause); // the service may come back
    }
  }

  async discard(): Promise<void> {
    this.epoch++;
    clearTimeout(this.timer);
    if (this.running) await this.running;
    const w = this.work;
    // One that was changed elsewhere is somebody else's by now, and stays.
    if (w && w.version > 0 && w.saving !== "changed elsewhere") {
      await api.DELETE("/api/v1/drafts/{bundle}", { params: { path: { bundle: this.bundle }, header: basedOn(w.version) } });
    }
    await this.load();
  }

  /** Replaces a draft that was changed elsewhere by this one. */
  async keepMine(): Promise<void> {
    const theirs = await readDraft(this.bundle);
    if (!this.work) return;
    this.set({ ...this.work, version: theirs?.version ?? 0, saving: "unsaved" });
    await this.flush();
  }

  /** Saves unsaved changes when the page is left. */
  close(): void {
    if (this.work?.saving === "unsaved") void this.flush();
    else clearTimeout(this.timer);
  }
}
