/** Key in the browser's storage for the name of the person. */
const key = "nightjar.who";

/** The name under which this browser acts. */
export const author = (): string => localStorage.getItem(key) ?? "console";

const listeners = new Set<() => void>();

/** Changes the name under which this browser acts. */
export function setAuthor(name: string): void {
  localStorage.setItem(key, name);
  listeners.forEach((l) => l());
}

/** Calls listener when the name changes, here or in another tab; the result ends that. */
export function onAuthor(listener: () => void): () => void {
  listeners.add(listener);
  window.addEventListener("storage", listener);
  return () => {
    listeners.delete(listener);
    window.removeEventListener("storage", listener);
  };
}
