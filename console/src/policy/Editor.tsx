import { autocompletion, type CompletionContext, type CompletionResult } from "@codemirror/autocomplete";
import { HighlightStyle, syntaxHighlighting } from "@codemirror/language";
import { yaml } from "@codemirror/lang-yaml";
import { forceLinting, linter, lintGutter, type Diagnostic } from "@codemirror/lint";
import { unifiedMergeView } from "@codemirror/merge";
import { EditorState, type Extension } from "@codemirror/state";
import { tags } from "@lezer/highlight";
import { basicSetup, EditorView } from "codemirror";
import { useEffect, useRef } from "react";
import type { Finding } from "../schema";
import { styleNonce } from "../wire";

// The editor's looks come from the console's own colours, so that light and dark follow.
const looks = EditorView.theme({
  "&": { backgroundColor: "var(--sheet)", color: "var(--ink)", fontSize: "0.9rem", height: "100%" },
  ".cm-content": { fontFamily: 'ui-monospace, "DejaVu Sans Mono", monospace', caretColor: "var(--ink)" },
  ".cm-gutters": { backgroundColor: "var(--paper)", color: "var(--soft)", borderRight: "1px solid var(--line)" },
  ".cm-activeLine, .cm-activeLineGutter": { backgroundColor: "color-mix(in srgb, var(--hover) 60%, transparent)" },
  "&.cm-focused .cm-selectionBackground, .cm-selectionBackground": {
    backgroundColor: "color-mix(in srgb, var(--brass) 30%, transparent) !important",
  },
  ".cm-cursor": { borderLeftColor: "var(--ink)" },
  ".cm-tooltip": { backgroundColor: "var(--sheet)", color: "var(--ink)", border: "1px solid var(--line)" },
  ".cm-tooltip-autocomplete ul li[aria-selected]": { backgroundColor: "var(--hover)", color: "var(--ink)" },
  ".cm-panels": { backgroundColor: "var(--paper)", color: "var(--ink)" },
  ".cm-collapsedLines": { background: "var(--hover)", color: "var(--soft)", padding: "4px 10px" },
  ".cm-collapsedLines:before, .cm-collapsedLines:after": { content: "none" },
  ".cm-changedText": { background: "none" },
  ".cm-changedLine": { backgroundColor: "color-mix(in srgb, var(--good) 14%, transparent) !important" },
  ".cm-deletedChunk": { backgroundColor: "color-mix(in srgb, var(--bad) 12%, transparent) !important" },
});

const colours = HighlightStyle.define([
  { tag: [tags.propertyName, tags.definition(tags.propertyName)], color: "var(--brass)" },
  { tag: tags.comment, color: "var(--soft)", fontStyle: "italic" },
  { tag: tags.string, color: "var(--good)" },
  { tag: tags.invalid, color: "var(--bad)" },
]);

const shared: Extension[] = [basicSetup, yaml(), syntaxHighlighting(colours), looks, EditorView.cspNonce.of(styleNonce)];

interface EditorProps {
  text: string;
  label: string;
  check: (text: string) => Promise<Finding[]>;
  complete: (context: CompletionContext) => CompletionResult | null;
  onChange: (text: string) => void;
}

// An editor for a policy: errors stand at their place, as the service finds them.
export function Editor({ text, label, check, complete, onChange }: EditorProps) {
  const host = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView>(null);
  const latest = useRef({ check, complete, onChange });
  latest.current = { check, complete, onChange };

  useEffect(() => {
    const diagnose = async (v: EditorView): Promise<Diagnostic[]> => {
      const findings = await latest.current.check(v.state.doc.toString());
      return findings.map((f) => {
        const line = v.state.doc.line(Math.min(Math.max(f.line, 1), v.state.doc.lines));
        // Columns count characters; the editor counts UTF-16 units.
        const before = [...line.text].slice(0, Math.max(0, f.column - 1)).join("").length;
        const from = Math.min(line.from + before, line.to);
        const to = Math.min(from + Math.max(1, f.length ?? 1), line.to);
        return { from, to: Math.max(from, to), severity: f.severity, message: f.message, source: f.rule };
      });
    };
    const made = new EditorView({
      parent: host.current!,
      state: EditorState.create({
        doc: text,
        extensions: [
          ...shared,
          lintGutter(),
          linter(diagnose, { delay: 350 }),
          autocompletion({ override: [(context) => latest.current.complete(context)] }),
          EditorView.contentAttributes.of({ "aria-label": label }),
          EditorView.updateListener.of((u) => u.docChanged && latest.current.onChange(u.state.doc.toString())),
        ],
      }),
    });
    view.current = made;
    forceLinting(made);
    return () => made.destroy();
    // The editor holds the text from here on.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [label]);

  // A text that came from elsewhere replaces what is in the editor.
  useEffect(() => {
    const v = view.current;
    if (v && v.state.doc.toString() !== text) v.dispatch({ changes: { from: 0, to: v.state.doc.length, insert: text } });
  }, [text]);

  return <div ref={host} className="h-full overflow-hidden rounded border border-line" />;
}

// What a text has that another had not, line by line.
export function Difference({ before, after }: { before: string; after: string }) {
  const host = useRef<HTMLDivElement>(null);
  useEffect(() => {
    const made = new EditorView({
      parent: host.current!,
      state: EditorState.create({
        doc: after,
        extensions: [
          ...shared,
          EditorState.readOnly.of(true),
          EditorView.editable.of(false),
          EditorView.contentAttributes.of({ "aria-label": "Text of the version, with its differences", tabindex: "0" }),
          unifiedMergeView({ original: before, mergeControls: false, collapseUnchanged: { margin: 3, minSize: 6 } }),
        ],
      }),
    });
    return () => made.destroy();
  }, [before, after]);
  return <div ref={host} className="h-full overflow-hidden rounded border border-line" />;
}
