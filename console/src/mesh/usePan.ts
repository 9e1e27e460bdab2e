import { useRef, type PointerEvent, type RefObject } from "react";

/** Moves what an element shows by dragging its ground. Cards and ribbons are not ground. */
export function usePan(box: RefObject<HTMLElement | null>) {
  const from = useRef<{ x: number; y: number; left: number; top: number } | null>(null);
  return {
    onPointerDown: (e: PointerEvent<HTMLElement>) => {
      const isGround = e.target instanceof Element && !e.target.closest("button, g[role=button]");
      if (!isGround || e.pointerType === "touch" || !box.current) return;
      from.current = { x: e.clientX, y: e.clientY, left: box.current.scrollLeft, top: box.current.scrollTop };
      box.current.setPointerCapture(e.pointerId);
    },
    onPointerMove: (e: PointerEvent<HTMLElement>) => {
      if (from.current && box.current) box.current.scrollTo(from.current.left + from.current.x - e.clientX, from.current.top + from.current.y - e.clientY);
    },
    onPointerUp: () => {
      from.current = null;
    },
    onPointerCancel: () => {
      from.current = null;
    },
  };
}
