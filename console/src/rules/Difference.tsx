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
  const mark = theme.palette.mode === "dark" ? ["#f58f8633", "#6fd0a333"] : ["#a1262d1f", "#1f6b4c1f"];
  return (
    <Box data-test="difference">
      <Box sx={{ display: "grid", gridTemplateColumns: "1fr 1fr", color: "text.secondary", mb: 0.5 }}>
        <span>{leftName}</span>
        <span>{rightName}</span>
      </Box>
      {left === right && <Box sx={{ py: 2, color: "text.secondary" }}>The texts are the same.</Box>}
      <Box
        ref={box}
        sx={{
          display: left === right ? "none" : "block", border: 1, borderColor: "divider", maxHeight: "56vh", overflow: "auto",
          "& .cm-merge-a .cm-changedLine": { backgroundColor: mark[0] }, "& .cm-merge-b .cm-changedLine": { backgroundColor: mark[1] },
          "& .cm-collapsedLines": { background: "transparent", color: "text.secondary", "&::before, &::after": { content: '"⋯"' } },
        }}
      />
    </Box>
  );
}
