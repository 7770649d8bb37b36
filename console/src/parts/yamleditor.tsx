import { autocompletion, type CompletionContext, completionKeymap, startCompletion } from "@codemirror/autocomplete";
import { defaultKeymap, history, historyKeymap } from "@codemirror/commands";
import { yaml } from "@codemirror/lang-yaml";
import { HighlightStyle, syntaxHighlighting } from "@codemirror/language";
import { type Diagnostic, lintGutter, lintKeymap, setDiagnostics } from "@codemirror/lint";
import { EditorState } from "@codemirror/state";
import { EditorView, keymap, lineNumbers } from "@codemirror/view";
import { tags } from "@lezer/highlight";
import { useEffect, useRef } from "react";

import { complete, type Schema } from "./complete";
import type { EditorProps } from "./editor";

const look = EditorView.theme({
  "&": { fontSize: "13px", backgroundColor: "var(--sheet)", color: "var(--ink)" },
  "&.cm-focused": { outline: "2px solid var(--now)" },
  ".cm-scroller": { fontFamily: "var(--font-mono)", lineHeight: "24px" },
  ".cm-content": { caretColor: "var(--ink)" },
  ".cm-content, .cm-gutter": { minHeight: "344px" },
  ".cm-cursor": { borderLeftColor: "var(--ink)" },
  ".cm-gutters": { backgroundColor: "var(--sheet)", color: "var(--faint)", borderRight: "1px solid var(--rule)" },
  ".cm-tooltip": { backgroundColor: "var(--paper)", color: "var(--ink)", border: "1px solid var(--ink)" },
  ".cm-tooltip.cm-tooltip-autocomplete > ul": { fontFamily: "var(--font-mono)", maxHeight: "18em" },
  ".cm-tooltip.cm-tooltip-autocomplete > ul > li[aria-selected]": {
    backgroundColor: "var(--ink)",
    color: "var(--paper)",
  },
  ".cm-completionInfo": { fontFamily: "var(--font-text)", maxWidth: "28em" },
  ".cm-diagnostic-error": { borderLeftColor: "var(--hand)" },
  ".cm-diagnostic-info": { borderLeftColor: "var(--now)" },
});

const colours = HighlightStyle.define([
  { tag: tags.definition(tags.propertyName), fontWeight: "600" },
  { tag: tags.comment, color: "var(--faint)", fontStyle: "italic" },
]);

/** What the schema says may be written at the cursor; where nothing is typed yet, only when asked for. */
const offer = (schema: () => Schema | undefined) => (ctx: CompletionContext) => {
  const root = schema();
  const all = root ? complete(ctx.state.doc.toString(), ctx.pos, root) : [];
  if (all.length === 0 || (!ctx.explicit && all[0].from === ctx.pos && !ctx.state.sliceDoc(0, ctx.pos).endsWith(": ")))
    return null;
  return {
    from: all[0].from,
    options: all.map((s) => ({
      label: s.label,
      info: s.help || undefined,
      apply: (view: EditorView, _: unknown, from: number, to: number) => {
        view.dispatch({
          changes: { from, to, insert: s.insert },
          selection: { anchor: from + s.insert.length },
          userEvent: "input.complete",
        });
        if (s.insert.endsWith(": ")) startCompletion(view); // its values come next
      },
    })),
  };
};

/** An editor of a document in YAML. */
export default function YamlEditor({ label, text, change, schema, marks, goTo }: EditorProps) {
  const parent = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView>(null);
  const now = useRef({ change, schema });
  now.current = { change, schema };
  useEffect(() => {
    const v = new EditorView({
      parent: parent.current!,
      state: EditorState.create({
        doc: text,
        extensions: [
          lineNumbers(),
          lintGutter(),
          history(),
          yaml(),
          syntaxHighlighting(colours),
          autocompletion({ override: [offer(() => now.current.schema)], icons: false }),
          keymap.of([...completionKeymap, ...defaultKeymap, ...historyKeymap, ...lintKeymap]),
          EditorView.contentAttributes.of({ "aria-label": label }),
          EditorView.updateListener.of((u) => {
            if (u.docChanged) now.current.change(u.state.doc.toString());
          }),
          look,
        ],
      }),
    });
    view.current = v;
    return () => v.destroy();
    // It begins with the text as it is; what comes later is laid into it below.
    // oxlint-disable-next-line react-hooks/exhaustive-deps
  }, [label]);
  useEffect(() => {
    const v = view.current!;
    const old = v.state.doc.toString();
    if (old !== text) v.dispatch({ changes: { from: 0, to: old.length, insert: text } });
  }, [text]);
  useEffect(() => {
    const v = view.current!;
    const found = (marks ?? []).map((m): Diagnostic => {
      const line = v.state.doc.line(Math.min(Math.max(m.line, 1), v.state.doc.lines));
      const at = line.from + Math.max(0, m.column - 1);
      const from = at < line.to ? at : line.from; // what is wrong at its end is shown as the line
      return { from, to: line.to, severity: m.wrong ? "error" : "info", message: m.what };
    });
    v.dispatch(setDiagnostics(v.state, found));
  }, [marks]);
  useEffect(() => {
    if (!goTo) return;
    const v = view.current!;
    const line = v.state.doc.line(Math.min(Math.max(goTo.line, 1), v.state.doc.lines));
    v.dispatch({
      selection: { anchor: Math.min(line.from + Math.max(0, goTo.column - 1), line.to) },
      scrollIntoView: true,
    });
    v.focus();
  }, [goTo]);
  return <div ref={parent} className="border border-ink" />;
}
