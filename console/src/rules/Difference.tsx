import { yaml } from "@codemirror/lang-yaml";
import { MergeView } from "@codemirror/merge";
import { EditorState } from "@codemirror/state";
import { EditorView, lineNumbers } from "@codemirror/view";
import Box from "@mui/material/Box";
import { useTheme } from "@mui/material/styles";
import { useEffect, useRef } from "react";
import { looks } from "./Editor";

/** Two texts side by side with their differences marked; equal parts are folded. */
export function Difference({ left, right, leftName, rightName }: { left: string; right: string; leftName: string; rightName: string }) {
  const theme = useTheme();
  const box = useRef<HTMLDivElement>(null);
  useEffect(() => {
    if (!box.current) return;
    const fixed = [yaml(), lineNumbers(), looks(theme), EditorState.readOnly.of(true), EditorView.editable.of(false)];
    const view = new MergeView({
      a: { doc: left, extensions: fixed }, b: { doc: right, extensions: fixed }, parent: box.current, gutter: true,
      collapseUnchanged: { margin: 4, minSize: 8 },
    });
    return () => view.destroy();
  }, [left, right, theme]);
  const { removed, added } = theme.palette.roles;
  return (
    <Box data-test="difference">
      <Box sx={{ display: "grid", gridTemplateColumns: "minmax(0, 1fr) minmax(0, 1fr)", color: "text.secondary", mb: 0.5 }}>
        <span>{leftName}</span>
        <span>{rightName}</span>
      </Box>
      {left === right && <Box sx={{ py: 2, color: "text.secondary" }}>The texts are the same.</Box>}
      <Box
        ref={box} tabIndex={0} role="region" aria-label={`${leftName} and ${rightName}`}
        sx={{
          minWidth: 0, "& .cm-mergeView": { minWidth: 0 }, display: left === right ? "none" : "block", border: 1, borderColor: "divider", maxHeight: "56vh", overflow: "auto",
          "& .cm-merge-a .cm-changedLine": { backgroundColor: removed }, "& .cm-merge-b .cm-changedLine": { backgroundColor: added },
          "& .cm-collapsedLines": { background: "transparent", color: "text.secondary", "&::before, &::after": { content: '"⋯"' } },
        }}
      />
    </Box>
  );
}
