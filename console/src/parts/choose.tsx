import { Listbox, ListboxButton, ListboxOption, ListboxOptions } from "@headlessui/react";

import { Field } from "./ui";

type Props<V extends string> = {
  label: string;
  value: V;
  options: { value: V; label: string }[];
  choose: (value: V) => void;
};

/** Chooses one of a few words. */
export function Choose<V extends string>({ label, value, options, choose, wide }: Props<V> & { wide?: boolean }) {
  const shown = options.find((o) => o.value === value)?.label ?? value;
  return (
    <Listbox value={value} onChange={choose}>
      <ListboxButton
        aria-label={`${label}: ${shown}`}
        className={
          "field inline-flex cursor-pointer items-baseline gap-2 text-left " + (wide ? "w-full justify-between" : "")
        }
      >
        {shown}
        <span aria-hidden>▾</span>
      </ListboxButton>
      <ListboxOptions
        anchor="bottom start"
        className="z-30 max-w-[92vw] border border-ink bg-paper text-sm outline-none"
      >
        {options.map((o) => (
          <ListboxOption
            key={o.value}
            value={o.value}
            className="cursor-pointer px-3 py-1 data-focus:bg-sea data-selected:font-semibold"
          >
            {o.label}
          </ListboxOption>
        ))}
      </ListboxOptions>
    </Listbox>
  );
}

/** Choose as a field of a form. */
export function ChooseField<V extends string>({ help, ...p }: Props<V> & { help?: string }) {
  return (
    <Field label={p.label} help={help}>
      <Choose {...p} wide />
    </Field>
  );
}

/** Words that are chosen as they are. */
export const asThey = <V extends string>(words: readonly V[]) => words.map((w) => ({ value: w, label: w }));
