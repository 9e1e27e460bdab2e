import { lazy, Suspense, type ReactNode } from "react";

const ConfirmDialog = lazy(() => import("./ConfirmDialog"));

export interface ConfirmProps {
  /** The action, as the button names it; empty: none. */
  act: string;
  /** What the action is about. */
  of: string;
  /** What the action does. */
  children: ReactNode;
  colour?: "error" | "warning" | undefined;
  /** A reason can be given. */
  reason?: boolean;
  onClose: () => void;
  /** Carries out the action; an error is shown, and the dialog stays. */
  onGo: (why: string) => Promise<void> | void;
}

/** Asks for confirmation before an action, and carries it out once. */
export function Confirm(props: ConfirmProps) {
  return props.act === "" ? null : <Suspense fallback={null}><ConfirmDialog {...props} /></Suspense>;
}
