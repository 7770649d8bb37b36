import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";

import { api, once, told } from "../api/client";
import { Choose } from "../parts/choose";
import { Buttons, Field, Sheet, Trouble, Waiting } from "../parts/ui";
import { stamp } from "../parts/times";
import { many, word } from "../parts/words";

/** How long the records of runs stay, by kind. */
export function Lifetimes({ close }: { close: () => void }) {
  const queries = useQueryClient();
  const list = useQuery({ queryKey: ["run-lifetimes"], queryFn: () => told(api.GET("/run-lifetimes")) });
  const all = list.data ?? [];
  const shown = all.filter((l) => l.own || l.records > 0);
  const [kind, setKind] = useState("others");
  const [keep, setKeep] = useState("90 days");
  const put = useMutation({
    mutationFn: (dryRun: boolean) =>
      told(api.PUT("/run-lifetimes", { body: { kind, keep: keep || undefined, dryRun }, headers: once() })),
    onSuccess: (_, dryRun) => {
      if (!dryRun) void queries.invalidateQueries({ queryKey: ["run-lifetimes"] });
    },
  });
  const choose = (k: string) => {
    put.reset();
    setKind(k);
    setKeep(all.find((l) => l.kind === k && l.own)?.keep ?? "");
  };
  return (
    <Sheet title="How long records of runs stay" open close={close}>
      {list.isPending && <Waiting what="lifetimes" />}
      <Trouble error={list.error} />
      <table className="plain">
        <thead>
          <tr>
            <th scope="col">Kind</th>
            <th scope="col">Stay</th>
            <th scope="col">There are</th>
          </tr>
        </thead>
        <tbody>
          {shown.map((l) => (
            <tr key={l.kind}>
              <td>{l.kind}</td>
              <td>
                {l.keep}
                {!l.own && <span className="text-faint">, as others</span>}
              </td>
              <td>
                {l.kind !== "others" &&
                  `${many(l.records, "record")}${l.oldest ? `, since ${stamp(l.oldest).slice(0, 10)}` : ""}`}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          put.mutate(false);
        }}
      >
        <div className="my-3 text-sm">
          <span className="block font-semibold">Kind</span>
          <Choose
            label="Kind"
            value={kind}
            options={all.map((l) => ({ value: l.kind, label: l.kind }))}
            choose={choose}
          />
        </div>
        <Field
          label="Stay for"
          help={kind === "others" ? "Such as 90 days." : "Such as 30 days or 10 years; empty: as long as others."}
        >
          <input
            className="field"
            value={keep}
            onChange={(e) => {
              put.reset();
              setKeep(e.target.value);
            }}
          />
        </Field>
        {put.data && (
          <p className="my-2 text-sm" role="status">
            {put.data.sentence}
          </p>
        )}
        <button type="button" className="quiet text-sm" onClick={() => put.mutate(true)} disabled={put.isPending}>
          see how many would go
        </button>
        <Trouble error={put.error} />
        <Buttons
          does="Set it"
          busy={put.isPending}
          close={close}
          command={`candid run lifetimes ${word(kind)} ${keep ? `--for ${word(keep)}` : "--as-others"}`}
        />
      </form>
    </Sheet>
  );
}
