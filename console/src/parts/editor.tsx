import { lazy, Suspense } from "react";

import type { Schema } from "./complete";

export type EditorMark = { line: number; column: number; what: string; wrong: boolean };

export type EditorProps = {
  label: string;
  text: string;
  change: (text: string) => void;
  /** What may be written is offered from it. */
  schema?: Schema;
  marks?: EditorMark[];
  /** Where the cursor is to stand; a new value moves it there. */
  goTo?: { line: number; column: number };
};

const Yaml = lazy(() => import("./yamleditor"));

/** An editor of a document in YAML, which comes when it is first opened. */
export function Editor(props: EditorProps) {
  return (
    <Suspense
      fallback={
        <pre className="min-h-86 overflow-x-auto border border-ink bg-sheet p-2 font-mono text-[13px] leading-6">
          {props.text}
        </pre>
      }
    >
      <Yaml {...props} />
    </Suspense>
  );
}
