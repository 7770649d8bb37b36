import { useQuery } from "@tanstack/react-query";
import { useState } from "react";

import { api, told } from "../api/client";
import { asThey, Choose } from "../parts/choose";
import { PolicyDoc } from "../parts/policydoc";
import { Wide } from "../parts/wide";

const tiers = ["newest", "hourly", "daily", "weekly", "monthly", "yearly", "by_hand", "safety"] as const;
const weekdays = ["monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday"];

/** The document as a form. What it changes it changes in the text, comments and all else stay. */
export function PolicyForm({
  text,
  change,
  places,
}: {
  text: string;
  change: (text: string) => void;
  places: string[];
}) {
  const d = new PolicyDoc(text);
  const hooks = useQuery({ queryKey: ["hooks"], queryFn: () => told(api.GET("/hooks")) });
  const set = (path: (string | number)[], v: Parameters<PolicyDoc["with"]>[1]) =>
    change(new PolicyDoc(text).with(path, v));
  if (d.broken)
    return (
      <p className="border-l-4 border-hand py-2 pl-3 text-sm">
        The text cannot be read as a document, so there is no form of it. Mend the line that is named beside, in the
        text.
      </p>
    );
  const named = d.keys("volumes").includes("names");
  const kept = [...new Set([...d.keys("keep"), ...places])];
  const aimed = [...new Set([...d.keys("objectives").filter((k) => k !== "recovery"), ...kept])];
  const input = (label: string, path: (string | number)[], more: { className?: string; placeholder?: string } = {}) => (
    <Draft key={path.join(".")} label={label} value={d.text(...path)} set={(v) => set(path, v)} {...more} />
  );
  return (
    <div className="text-sm">
      <Part title="Name and volumes">
        <div className="flex flex-wrap gap-x-4 gap-y-2">
          <Labelled label="Name">{input("Name", ["policy"])}</Labelled>
          {named ? (
            <Labelled label="Volumes by name">
              <Draft
                label="Volumes by name"
                className="w-72"
                value={d.list("volumes", "names").join(", ")}
                set={(v) => set(["volumes"], { names: v.split(/[\s,]+/).filter(Boolean) })}
              />
            </Labelled>
          ) : (
            <Labelled label="Volumes with these labels">
              <Draft
                label="Volumes with these labels"
                className="w-72"
                value={d
                  .keys("volumes")
                  .map((k) => `${k}=${d.text("volumes", k)}`)
                  .join(" ")}
                set={(v) =>
                  set(
                    ["volumes"],
                    Object.fromEntries(
                      v
                        .split(/[\s,]+/)
                        .filter((p) => p.includes("="))
                        .map((p) => p.split("=") as [string, string]),
                    ),
                  )
                }
                placeholder="collection=herbarium"
              />
            </Labelled>
          )}
          <button
            type="button"
            className="quiet self-end pb-1.5"
            onClick={() => set(["volumes"], named ? { collection: "herbarium" } : { names: ["name-a-volume"] })}
          >
            choose by {named ? "labels" : "names"}
          </button>
        </div>
      </Part>
      <Part title="Take a snapshot">
        {[...d.list("take"), ""].map((c, i) => (
          <div key={i} className="my-1">
            <Draft
              label={`Cadence ${i + 1}`}
              className="w-full"
              value={c}
              set={(v) => set(["take", i], v)}
              placeholder={
                i === 0 ? "every 15 minutes between 07:00 and 19:00 on mon-fri" : "and also, such as daily at 23:30"
              }
            />
          </div>
        ))}
        <div className="mt-2 flex flex-wrap items-end gap-x-4 gap-y-2">
          <Labelled label="Time zone">{input("Time zone", ["zone"], { placeholder: "UTC" })}</Labelled>
          <Labelled label="Weeks begin on">
            <Choose
              label="Weeks begin on"
              value={d.text("week_starts") || "monday"}
              options={asThey(weekdays)}
              choose={(v) => set(["week_starts"], v === "monday" ? "" : v)}
            />
          </Labelled>
          <Check
            label="not when nothing changed"
            on={d.flag("skip_unchanged")}
            set={(on) => set(["skip_unchanged"], on)}
          />
          <Check label="paused" on={d.flag("paused")} set={(on) => set(["paused"], on)} />
        </div>
      </Part>
      <Part
        title="Keep"
        help={
          "So many, such as 14, or for so long, such as for 30 days; first 8 keeps the first of each. " +
          "Empty: nothing by that rule. A place without any keeps everything."
        }
      >
        <Wide label="Rules">
          <table className="plain">
            <thead>
              <tr>
                <th scope="col">Place</th>
                {tiers.map((t) => (
                  <th key={t} scope="col">
                    {t.replace("_", " ")}
                  </th>
                ))}
              </tr>
            </thead>
            <tbody>
              {kept.map((p) => (
                <tr key={p}>
                  <th scope="row" className="text-left font-semibold">
                    {p}
                  </th>
                  {tiers.map((t) => (
                    <td key={t} className="px-0.5!">
                      {input(`${p}: ${t.replace("_", " ")}`, ["keep", p, t], { className: "w-[3.8rem] px-1!" })}
                    </td>
                  ))}
                </tr>
              ))}
            </tbody>
          </table>
        </Wide>
        <Another label="another place" add={(p) => set(["keep", p], { daily: 30 })} />
      </Part>
      <Part title="Milestones" help="What stood at the end of chosen days is kept for long.">
        {Array.from({ length: d.count("milestones") }, (_, i) => (
          <div key={i} className="my-1 flex flex-wrap items-end gap-2">
            <Labelled label="Name">
              {input(`Milestone ${i + 1}: name`, ["milestones", i, "name"], { className: "w-32" })}
            </Labelled>
            <Labelled label="On">
              {input(`Milestone ${i + 1}: on`, ["milestones", i, "on"], { className: "w-52" })}
            </Labelled>
            <Labelled label="For">
              {input(`Milestone ${i + 1}: for`, ["milestones", i, "for"], { className: "w-24" })}
            </Labelled>
            <Labelled label="At">
              <Draft
                label={`Milestone ${i + 1}: at`}
                className="w-36"
                value={d.list("milestones", i, "at").join(", ")}
                set={(v) => set(["milestones", i, "at"], v.split(/[\s,]+/).filter(Boolean))}
                placeholder="everywhere"
              />
            </Labelled>
            <button type="button" className="quiet pb-1.5" onClick={() => set(["milestones", i], undefined)}>
              drop
            </button>
          </div>
        ))}
        <button
          type="button"
          className="quiet"
          onClick={() =>
            set(["milestones", d.count("milestones")], {
              name: "year-end",
              on: "yearly on last day of december",
              for: "7 years",
            })
          }
        >
          add a milestone
        </button>
      </Part>
      <Part title="Objectives" help="How old the newest state may get, and how long recovery may take.">
        <div className="flex flex-wrap gap-x-4 gap-y-2">
          {aimed.map((p) => (
            <Labelled key={p} label={`At ${p}`}>
              {input(`Objective at ${p}`, ["objectives", p], { className: "w-28", placeholder: "none" })}
            </Labelled>
          ))}
          <Labelled label="Recovery">
            {input("Recovery", ["objectives", "recovery"], { className: "w-28", placeholder: "none" })}
          </Labelled>
          <Labelled label="Grace before removal">
            {input("Grace", ["grace"], { className: "w-28", placeholder: "24 hours" })}
          </Labelled>
        </div>
      </Part>
      {((hooks.data ?? []).length > 0 || d.text("quiesce", "freeze")) && (
        <Part title="Hold the writers" help="By hooks of site.yaml, while a volume is read.">
          <div className="flex flex-wrap gap-4">
            {(["freeze", "thaw"] as const).map((k) => (
              <Labelled key={k} label={k === "freeze" ? "Before, by" : "Afterwards, by"}>
                <Choose
                  label={k}
                  value={d.text("quiesce", k)}
                  options={[{ value: "", label: "nothing" }, ...asThey((hooks.data ?? []).map((h) => h.name))]}
                  choose={(v) => set(["quiesce", k], v)}
                />
              </Labelled>
            ))}
            {d.text("quiesce", "freeze") && (
              <Labelled label="If that fails">
                <Choose
                  label="If the freeze fails"
                  value={d.text("quiesce", "failing") || "stop"}
                  options={[
                    { value: "stop", label: "take nothing" },
                    { value: "spread", label: "take it spread" },
                  ]}
                  choose={(v) => set(["quiesce", "failing"], v === "stop" ? "" : v)}
                />
              </Labelled>
            )}
          </div>
        </Part>
      )}
    </div>
  );
}

function Part({ title, help, children }: { title: string; help?: string; children: React.ReactNode }) {
  return (
    <fieldset className="my-3 min-w-0 border-t border-ink pt-2">
      <legend className="head pr-3">{title}</legend>
      {help && <p className="mb-2 text-xs text-faint">{help}</p>}
      {children}
    </fieldset>
  );
}

function Labelled({ label, children }: { label: string; children: React.ReactNode }) {
  return (
    <span className="flex flex-col">
      <span className="text-xs text-faint" aria-hidden>
        {label}
      </span>
      {children}
    </span>
  );
}

function Check({ label, on, set }: { label: string; on: boolean; set: (on: boolean) => void }) {
  return (
    <label className="flex items-baseline gap-2 pb-1.5">
      <input type="checkbox" checked={on} onChange={(e) => set(e.target.checked)} />
      {label}
    </label>
  );
}

/** A field that changes the document when it is left or confirmed, not at each letter. */
function Draft({
  label,
  value,
  set,
  className,
  placeholder,
}: {
  label: string;
  value: string;
  set: (v: string) => void;
  className?: string;
  placeholder?: string;
}) {
  const [draft, setDraft] = useState<string | null>(null);
  const done = () => {
    if (draft !== null && draft.trim() !== value) set(draft.trim());
    setDraft(null);
  };
  return (
    <input
      aria-label={label}
      className={`field ${className ?? "w-40"}`}
      value={draft ?? value}
      placeholder={placeholder}
      onChange={(e) => setDraft(e.target.value)}
      onBlur={done}
      onKeyDown={(e) => {
        if (e.key === "Enter") {
          e.preventDefault();
          done();
        }
        if (e.key === "Escape") setDraft(null);
      }}
    />
  );
}

function Another({ label, add }: { label: string; add: (name: string) => void }) {
  const [name, setName] = useState("");
  return (
    <span className="mt-2 inline-flex items-baseline gap-2">
      <input
        aria-label={label}
        className="field w-36"
        placeholder={label}
        value={name}
        onChange={(e) => setName(e.target.value)}
      />
      <button
        type="button"
        className="quiet"
        disabled={!/^[a-z0-9][a-z0-9./_-]*$/.test(name)}
        onClick={() => {
          add(name);
          setName("");
        }}
      >
        add
      </button>
    </span>
  );
}
