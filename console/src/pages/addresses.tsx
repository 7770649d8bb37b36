import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";

import { api, once, type Schemas, told } from "../api/client";
import { Buttons, Field, Sheet, Trouble, Waiting } from "../parts/ui";
import { word } from "../parts/words";

/** By which ways a paired site is reached: each tried just now, those that were added here to change. */
export function Addresses({ peer: p, close }: { peer: Schemas["Peer"]; close: () => void }) {
  const queries = useQueryClient();
  const params = { path: { name: p.name } };
  const tried = useQuery({
    queryKey: ["sites", p.name, "addresses"],
    queryFn: () => told(api.POST("/sites/{name}/addresses/check", { params })),
    staleTime: 0,
  });
  const was = p.ownAddresses ?? [];
  const [text, setText] = useState(was.join("\n"));
  const own = text.split(/\s+/).filter(Boolean);
  const put = useMutation({
    mutationFn: () => told(api.PUT("/sites/{name}/addresses", { params, body: { addresses: own }, headers: once() })),
    onSuccess: () => {
      void queries.invalidateQueries({ queryKey: ["sites"] });
      close();
    },
  });
  const command = [
    `candid site addresses ${word(p.name)}`,
    ...was.filter((a) => !own.includes(a)).map((a) => `--remove ${word(a)}`),
    ...own.filter((a) => !was.includes(a)).map((a) => `--add ${word(a)}`),
  ];
  return (
    <Sheet title={`How ${p.name} is reached`} open close={close}>
      {tried.isPending && <Waiting what="how each address answers" />}
      <Trouble error={tried.error} />
      <ul className="text-sm">
        {(tried.data ?? []).map((a) => (
          <li key={a.address} className="border-b border-rule py-2">
            <span className="font-mono">{a.address}</span>{" "}
            <span className={a.trouble ? "text-hand" : ""}>
              {a.trouble ? "▲ does not answer" : `– answers in ${Math.max(1, Math.round((a.seconds ?? 0) * 1000))} ms`}
            </span>
            {a.inUse && "; the line goes by it"}
            {(a.routes ?? []).length > 0 && `; ${a.routes!.join(", ")} by it alone`}
            <span className="block text-faint">
              {a.own ? "added here" : `${p.name} says it of itself`}
              {a.trouble && `: ${a.trouble}`}
            </span>
          </li>
        ))}
      </ul>
      {tried.data?.length === 0 && <p className="text-sm">No address of it is known: it calls here.</p>}
      <form
        onSubmit={(e) => {
          e.preventDefault();
          put.mutate();
        }}
      >
        <Field
          label="Added here"
          help="host:port, one a line; tried first, in this order. A route can go by one alone."
        >
          <textarea
            className="field w-full font-mono"
            rows={3}
            value={text}
            onChange={(e) => setText(e.target.value)}
            placeholder="10.2.0.2:7311"
          />
        </Field>
        <Trouble error={put.error} />
        <Buttons does="Set them" busy={put.isPending} close={close} command={command.join(" ")} />
      </form>
    </Sheet>
  );
}
