import { Listbox, ListboxButton, ListboxOption, ListboxOptions } from "@headlessui/react";

/** Chooses one of a few words. */
export function Choose({
  label,
  value,
  options,
  choose,
}: {
  label: string;
  value: string;
  options: { value: string; label: string }[];
  choose: (value: string) => void;
}) {
  return (
    <Listbox value={value} onChange={choose}>
      <ListboxButton aria-label={label} className="field inline-flex cursor-pointer items-baseline gap-2">
        {options.find((o) => o.value === value)?.label ?? value}
        <span aria-hidden>▾</span>
      </ListboxButton>
      <ListboxOptions anchor="bottom start" className="z-30 border border-ink bg-paper text-sm outline-none">
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
