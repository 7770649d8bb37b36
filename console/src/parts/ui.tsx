import { Dialog, DialogBackdrop, DialogPanel, DialogTitle } from "@headlessui/react";
import { Fragment, type ReactNode, useState } from "react";

import type { Run } from "../api/client";
import { size, span } from "./words";

/** The command that does the same as the page, to copy. */
export function Command({ text }: { text: string }) {
  const [copied, setCopied] = useState(false);
  return (
    <span className="inline-flex items-baseline gap-2 max-w-full">
      <code className="font-mono text-sm bg-sea px-1.5 py-0.5 min-w-0 wrap-anywhere">
        {text.split(" ").map((w, i) => (
          <Fragment key={i}>
            {i > 0 && " "}
            <span className="inline-block max-w-full">{w}</span>
          </Fragment>
        ))}
      </code>
      <button
        className="quiet text-xs text-faint"
        onClick={() => {
          void navigator.clipboard?.writeText(text).then(() => {
            setCopied(true);
            setTimeout(() => setCopied(false), 1500);
          });
        }}
      >
        {copied ? "copied" : "copy"}
      </button>
    </span>
  );
}

export function ByCommand({ lines }: { lines: string[] }) {
  return (
    <footer className="mt-10 border-t border-rule pt-2 text-sm text-faint">
      <span className="mr-3">The same by command:</span>
      {lines.map((l) => (
        <span key={l} className="mr-4 inline-block">
          <Command text={l} />
        </span>
      ))}
    </footer>
  );
}

export function Trouble({ error }: { error: Error | null | undefined }) {
  if (!error) return null;
  return (
    <p role="alert" className="my-2 border-l-4 border-hand bg-sheet px-3 py-2 text-sm">
      <strong className="text-hand">This did not work. </strong>
      {error.message}
    </p>
  );
}

export function Waiting({ what }: { what: string }) {
  return (
    <p className="my-6 text-faint" aria-live="polite">
      Reading {what} …
    </p>
  );
}

/** A word for a state, with a shape that says the same. */
export function State({ word }: { word: string }) {
  const calm = ["on target", "current", "done", "kept", "ready", "yes", "to do"].includes(word);
  const busy = ["running", "queued", "seeding", "behind", "waiting", "standing by", "in grace", "up"].includes(word);
  return (
    <span className={`whitespace-nowrap ${calm ? "" : busy ? "text-now" : "text-hand font-semibold"}`}>
      <span aria-hidden className="inline-block w-4">
        {calm ? "–" : busy ? "◦" : "▲"}
      </span>
      {word}
    </span>
  );
}

export function Sheet({
  title,
  open,
  close,
  children,
  wide,
}: {
  title: string;
  open: boolean;
  close: () => void;
  children: ReactNode;
  wide?: boolean;
}) {
  return (
    <Dialog open={open} onClose={close} className="relative z-20">
      <DialogBackdrop className="fixed inset-0 bg-ink/30" />
      <div className="fixed inset-0 overflow-y-auto">
        <div className="flex min-h-full items-start justify-center p-3 sm:p-10">
          <DialogPanel className={`w-full border border-ink bg-paper p-5 ${wide ? "max-w-3xl" : "max-w-xl"}`}>
            <DialogTitle className="head mb-3">{title}</DialogTitle>
            {children}
          </DialogPanel>
        </div>
      </div>
    </Dialog>
  );
}

/** The end of a form in a sheet: what it does, the way out, and the command that does the same. */
export function Buttons(p: {
  does: string;
  busy: boolean;
  close: () => void;
  command: string;
  hand?: boolean; // it takes something away
}) {
  return (
    <div className="mt-4 flex flex-wrap items-baseline gap-3">
      <button className={`press ${p.hand ? "press-hand" : ""}`} disabled={p.busy}>
        {p.does}
      </button>
      <button type="button" className="quiet" onClick={p.close}>
        Not now
      </button>
      <Command text={p.command} />
    </div>
  );
}

export function Field({ label, help, children }: { label: string; help?: string; children: ReactNode }) {
  return (
    <label className="block my-3 text-sm">
      <span className="block font-semibold">{label}</span>
      {children}
      {help && <span className="block text-faint">{help}</span>}
    </label>
  );
}

export function Progress({ run }: { run: Run }) {
  const p = run.progress;
  const share = p.totalBytes ? Math.min(1, p.doneBytes / p.totalBytes) : undefined;
  return (
    <div className="text-sm">
      <div
        className="h-2 border border-ink bg-sheet"
        role="progressbar"
        aria-label={`${run.kind} of ${run.subject}`}
        aria-valuemin={0}
        aria-valuemax={100}
        aria-valuenow={share === undefined ? undefined : Math.round(share * 100)}
      >
        <div className="h-full bg-now transition-[width]" style={{ width: `${(share ?? 0.03) * 100}%` }} />
      </div>
      <p className="mt-1 text-faint">
        {p.phase || run.state}
        {p.doneBytes > 0 && ` · ${size(p.doneBytes)}${p.totalBytes ? ` of ${size(p.totalBytes)}` : ""}`}
        {!!p.bytesPerSecond && ` · ${size(p.bytesPerSecond)}/s`}
        {!!p.secondsLeft && p.secondsLeft > 1 && ` · about ${span(p.secondsLeft)} left`}
      </p>
    </div>
  );
}
