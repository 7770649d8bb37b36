import { Combobox, ComboboxInput, ComboboxOption, ComboboxOptions } from "@headlessui/react";
import { useState } from "react";

const MOST = 50; // that are offered at once; what is typed narrows them

/** Picks one of many names, which is found by typing a part of it. */
export function Pick({
  label,
  value,
  names,
  none,
  pick,
}: {
  label: string;
  value: string;
  names: string[];
  /** What it is called when nothing is picked; absent where something must be. */
  none?: string;
  pick: (name: string) => void;
}) {
  const [typed, setTyped] = useState("");
  const part = typed.toLowerCase();
  const fit = names.filter((n) => n.toLowerCase().includes(part));
  return (
    <Combobox immediate value={value} onChange={(v) => pick(v ?? "")} onClose={() => setTyped("")}>
      <span className="relative inline-flex max-w-full items-center">
        <ComboboxInput
          aria-label={label}
          className="field min-w-0 pr-7!"
          autoComplete="off"
          displayValue={(v: string) => v || none || ""}
          onChange={(e) => setTyped(e.target.value)}
          onFocus={(e) => e.target.select()}
        />
        <span aria-hidden className="pointer-events-none absolute right-2">
          ▾
        </span>
      </span>
      <ComboboxOptions
        anchor="bottom start"
        className="z-30 max-h-72 overflow-y-auto border border-ink bg-paper text-sm outline-none"
      >
        {none !== undefined && !part && <Option value="">{none}</Option>}
        {fit.slice(0, MOST).map((n) => (
          <Option key={n} value={n}>
            {n}
          </Option>
        ))}
        {fit.length > MOST && <p className="px-3 py-1 text-faint">and {fit.length - MOST} more: type a part of it</p>}
        {fit.length === 0 && <p className="px-3 py-1 text-faint">none is called like that</p>}
      </ComboboxOptions>
    </Combobox>
  );
}

function Option({ value, children }: { value: string; children: string }) {
  return (
    <ComboboxOption value={value} className="cursor-pointer px-3 py-1 data-focus:bg-sea data-selected:font-semibold">
      {children}
    </ComboboxOption>
  );
}
