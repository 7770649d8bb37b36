import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";

import { api, once, type Snapshot, told } from "../api/client";
import { Choose } from "../parts/choose";
import { Buttons, Field, Sheet, Trouble } from "../parts/ui";
import { stamp, startOf } from "../parts/times";
import { instant, many, size, word } from "../parts/words";

type How = "rules" | "until" | "keep";

const hows: { value: How; label: string }[] = [
  { value: "rules", label: "as long as the rules there say" },
  { value: "until", label: "until a day" },
  { value: "keep", label: "until somebody there lets them go" },
];

/** Carries chosen snapshots to another site once. */
export function CarrySheet({ snapshots, close }: { snapshots: Snapshot[]; close: () => void }) {
  const go = useNavigate();
  const [of] = useState(snapshots);
  const [chosen, setTo] = useState("");
  const [how, setHow] = useState<How>("rules");
  const [until, setUntil] = useState("");
  const [reason, setReason] = useState("");
  const sites = useQuery({ queryKey: ["sites"], queryFn: () => told(api.GET("/sites")) });
  const may = (sites.data ?? []).filter((s) => s.granted.offer);
  const to = chosen || may[0]?.name || "";
  const carry = useMutation({
    mutationFn: () =>
      told(
        api.POST("/snapshots/carry", {
          body: {
            snapshots: of.map((s) => s.id),
            to,
            keep: how === "keep",
            keepUntil: how === "until" ? startOf(until).toISOString() : undefined,
            reason: how === "rules" ? undefined : reason,
          },
          headers: once(),
        }),
      ),
    onSuccess: (r) => void go(`/runs/${r.id}`),
  });
  const command = [
    "candid snapshot carry",
    of.length > 3 ? "ID ID" : of.map((s) => s.id.slice(0, 12)).join(" "),
    `--to ${word(to || "SITE")}`,
    how === "until" && `--keep-until ${until ? instant(startOf(until)) : "WHEN"}`,
    how === "keep" && "--keep",
    how !== "rules" && reason && `--reason ${word(reason)}`,
  ];
  return (
    <Sheet title={`Carry to another site: ${many(of.length, "snapshot")}`} open close={close}>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          carry.mutate();
        }}
      >
        <p className="text-sm">
          They go there once, without a route, and are copies like any other. What is there already is not sent again.
        </p>
        {sites.data && may.length === 0 ? (
          <p className="my-3 text-sm text-hand">
            No site lets this one bring snapshots: pair with one under Sites first.
          </p>
        ) : (
          <Row label="Where">
            <Choose
              label="Where"
              value={to}
              choose={setTo}
              options={may.map((s) => ({
                value: s.name,
                label: `${s.name}${s.up ? "" : ", no line"}${s.freeBytes ? `, ${size(s.freeBytes)} free` : ""}`,
              }))}
            />
          </Row>
        )}
        <Row label="Kept there">
          <Choose label="Kept there" value={how} options={hows} choose={(v) => setHow(v as How)} />
        </Row>
        {how === "until" && (
          <Field label="Until">
            <input
              className="field"
              type="date"
              required
              value={until}
              min={stamp(new Date().toISOString()).slice(0, 10)}
              onChange={(e) => setUntil(e.target.value)}
            />
          </Field>
        )}
        {how !== "rules" && (
          <Field label="Why" help="Shown there beside the keep mark.">
            <input
              className="field w-full"
              maxLength={300}
              value={reason}
              onChange={(e) => setReason(e.target.value)}
            />
          </Field>
        )}
        <Trouble error={sites.error ?? carry.error} />
        <Buttons
          does={`Carry ${of.length}`}
          busy={carry.isPending || !to}
          close={close}
          command={command.filter(Boolean).join(" ")}
        />
      </form>
    </Sheet>
  );
}

function Row({ label, children }: { label: string; children: React.ReactNode }) {
  return (
    <div className="my-3 flex flex-wrap items-baseline gap-x-3 text-sm">
      <span className="font-semibold">{label}</span>
      {children}
    </div>
  );
}
