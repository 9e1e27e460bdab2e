import { autocompletion } from "@codemirror/autocomplete";
import { yaml } from "@codemirror/lang-yaml";
import { HighlightStyle, syntaxHighlighting } from "@codemirror/language";
import { linter, lintGutter, setDiagnostics, type Diagnostic } from "@codemirror/lint";
import type { Extension, Text } from "@codemirror/state";
import { EditorView } from "@codemirror/view";
import { tags } from "@lezer/highlight";
import { useTheme, type Theme } from "@mui/material/styles";
import CodeMirror from "@uiw/react-codemirror";
import { useEffect, useMemo, useState } from "react";
import { type } from "../kit/theme";
import type { Finding } from "../api/client";
import { complete, type Names, type Schema } from "./complete";

/** The looks of rule text, the same in the editor and in differences. */
export function looks(theme: Theme): Extension {
  const p = theme.palette;
  const mono = "ui-monospace, 'DejaVu Sans Mono', 'Liberation Mono', Menlo, Consolas, monospace";
  return [
    EditorView.theme(
      {
        "&": { backgroundColor: p.background.paper, color: p.text.primary, fontSize: type.small },
        ".cm-scroller": { fontFamily: mono, lineHeight: "1.5" },
        ".cm-gutters": { backgroundColor: p.background.paper, color: p.text.secondary, borderRight: `1px solid ${p.divider}` },
        ".cm-activeLine, .cm-activeLineGutter": { backgroundColor: p.action.hover },
        "&.cm-focused": { outline: `2px solid ${p.primary.main}`, outlineOffset: "-2px" },
        ".cm-cursor": { borderLeftColor: p.text.primary },
        ".cm-tooltip": { backgroundColor: p.background.paper, color: p.text.primary, border: `1px solid ${p.divider}` },
        ".cm-tooltip-autocomplete ul li[aria-selected]": { backgroundColor: p.primary.main, color: p.primary.contrastText },
        ".cm-completionInfo": { maxWidth: "340px" },
        ".cm-foldPlaceholder": { backgroundColor: "transparent", color: p.text.secondary },
      },
      { dark: p.mode === "dark" },
    ),
    syntaxHighlighting(
      HighlightStyle.define([
        { tag: [tags.propertyName, tags.definition(tags.propertyName)], color: p.primary.main, fontWeight: "600" },
        { tag: [tags.string, tags.special(tags.string)], color: p.success.main },
        { tag: [tags.comment, tags.lineComment], color: p.text.secondary, fontStyle: "italic" },
        { tag: [tags.punctuation, tags.separator, tags.brace, tags.squareBracket], color: p.text.secondary },
        { tag: [tags.keyword, tags.meta], color: p.warning.main },
      ]),
    ),
    EditorView.lineWrapping,
    EditorView.contentAttributes.of({ tabindex: "0" }), // a text that scrolls is reached by keys
  ];
}

/** The part of the document that a finding underlines: the word at its position. */
function range(doc: Text, f: Finding): { from: number; to: number } {
  const line = doc.line(Math.min(Math.max(f.at.line ?? 1, 1), doc.lines));
  const from = Math.min(line.from + Math.max((f.at.col ?? 1) - 1, 0), line.to);
  const word = /^("[^"]*"|'[^']*'|[^\s,{}[\]]+)/.exec(line.text.slice(from - line.from));
  return { from, to: Math.min(from + Math.max(word?.[0].length ?? 1, 1), line.to) };
}

export interface EditorProps {
  text: string;
  /** Absent: the text is only read. */
  onChange?: ((text: string) => void) | undefined;
  findings: Finding[];
  schema: Schema | undefined;
  names: Names;
  /** Where to move the cursor. */
  go: { line: number; col: number } | null;
  /** Called once the cursor is there. */
  onWent: () => void;
}

/** One rule file: highlighted, completed by the schema, with findings under the text. */
export function Editor({ text, onChange, findings, schema, names, go, onWent }: EditorProps) {
  const theme = useTheme();
  const [view, setView] = useState<EditorView | null>(null);
  const extensions = useMemo(
    () => [
      yaml(),
      linter(null), // so that findings outlive a change of the extensions
      lintGutter(),
      looks(theme),
      autocompletion({ override: [(c) => (schema ? complete(c, schema, names) : null)], icons: false }),
      EditorView.contentAttributes.of({ "aria-label": "Rule file" }),
    ],
    [theme, schema, names],
  );
  useEffect(() => {
    if (!view) return;
    const list: Diagnostic[] = findings.map((f) => ({
      ...range(view.state.doc, f), severity: f.severity === "mistake" ? "error" : "warning", source: f.code, message: f.message + (f.expected ? `\nExpected: ${f.expected}` : ""),
    }));
    view.dispatch(setDiagnostics(view.state, list));
  }, [view, findings]);
  useEffect(() => {
    if (!view || !go) return;
    const line = view.state.doc.line(Math.min(Math.max(go.line, 1), view.state.doc.lines));
    const at = Math.min(line.from + Math.max(go.col - 1, 0), line.to);
    view.dispatch({ selection: { anchor: at }, effects: EditorView.scrollIntoView(at, { y: "center" }) });
    view.focus();
    onWent();
  }, [view, go, onWent]);
  return <CodeMirror value={text} readOnly={!onChange} {...(onChange ? { onChange } : {})} onCreateEditor={setView} extensions={extensions} theme="none" height="52vh" basicSetup={{ autocompletion: false, tabSize: 2 }} indentWithTab={false} />;
}
