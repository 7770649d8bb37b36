import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useNavigate } from "react-router";

import { api, once, told } from "../api/client";
import { Command, Trouble } from "../parts/ui";

/** What is done with the store now and then, and the release of what is held. */
export function StoreCare({ held }: { held?: string }) {
  const go = useNavigate();
  const queries = useQueryClient();
  const verify = useMutation({
    mutationFn: () => told(api.POST("/store/verify", { headers: once() })),
    onSuccess: (r) => void go(`/runs/${r.id}`),
  });
  const copy = useMutation({ mutationFn: () => told(api.POST("/store/catalogue-copies", { headers: once() })) });
  const release = useMutation({
    mutationFn: () => told(api.POST("/store/release", { headers: once() })),
    onSuccess: () => queries.invalidateQueries(),
  });
  return (
    <section aria-labelledby="care">
      <h2 id="care" className="head mt-6 border-b border-ink">
        Care of the store
      </h2>
      <Row does="Verify it" command="candid store verify" press={() => verify.mutate()} busy={verify.isPending}>
        Reads everything, compares it with its identity, and asks other sites for what is damaged.
      </Row>
      <Row
        does="Copy the catalogue"
        command="candid store copy-catalogue"
        press={() => copy.mutate()}
        busy={copy.isPending}
      >
        The records of the site, into its data directory. {copy.data && <strong role="status">It is copied.</strong>}
      </Row>
      {held && (
        <Row
          does="Release removal"
          command="candid store release"
          press={() => release.mutate()}
          busy={release.isPending}
        >
          Nothing is removed at present: {held}. Look first whether what would go may go.
        </Row>
      )}
      <Trouble error={verify.error ?? copy.error ?? release.error} />
    </section>
  );
}

function Row(p: { does: string; command: string; press: () => void; busy: boolean; children: React.ReactNode }) {
  return (
    <div className="flex flex-wrap items-baseline gap-x-4 gap-y-1 border-b border-rule py-2 text-sm">
      <button className="press" onClick={p.press} disabled={p.busy}>
        {p.does}
      </button>
      <span className="min-w-0 grow">{p.children}</span>
      <Command text={p.command} />
    </div>
  );
}
