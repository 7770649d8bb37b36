import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";

import { api, once, told } from "../api/client";
import { ChooseField } from "../parts/choose";
import { ByCommand, Command, Field, Sheet, Trouble } from "../parts/ui";
import { readSize, size, word } from "../parts/words";

/** Makes a disk, empty or with the bytes of a raw file or of another NBD server. */
export function MakeDisk({ close }: { close: () => void }) {
  const queries = useQueryClient();
  const [name, setName] = useState("");
  const [length, setLength] = useState("");
  const [from, setFrom] = useState("");
  const [image, setImage] = useState("");
  const [block, setBlock] = useState("65536");
  const [labels, setLabels] = useState("");
  const bytes = readSize(length);
  const wrong = length !== "" && bytes === undefined;
  const make = useMutation({
    mutationFn: () => {
      const pairs = labels
        .split(/[\s,]+/)
        .filter(Boolean)
        .map((p) => p.split("=") as [string, string]);
      const body = {
        name,
        labels: Object.fromEntries(pairs),
        blockBytes: Number(block),
        ...(bytes ? { sizeBytes: bytes } : {}),
        ...(from ? { import: from } : {}),
        ...(image ? { image } : {}),
      };
      return told(api.POST("/volumes", { body, headers: once() }));
    },
    onSuccess: () => queries.invalidateQueries(),
  });
  const command = [
    `candid volume add ${word(name || "NAME")}`,
    ...(length || !from ? [`--size ${word(length || "SIZE")}`] : []),
    ...(from ? [`--import ${word(from)}`] : []),
    ...(image ? [`--image ${word(image)}`] : []),
    ...(block === "65536" ? [] : [`--block ${block}`]),
  ].join(" ");
  return (
    <Sheet title="Make a disk" open close={close}>
      {make.data ? (
        <>
          <p className="font-say text-lg">
            {make.data.volume.name} is a disk of {size(make.data.bytes)}, and clients may open it.
          </p>
          <p className="my-2 text-sm">
            Its bytes are in <span className="font-mono break-all">{make.data.volume.path}</span>.
          </p>
          <ul>
            {(make.data.warnings ?? []).map((w) => (
              <li key={w} className="my-2 border-l-4 border-hand pl-3 text-sm">
                {w}
              </li>
            ))}
          </ul>
          <p className="my-3 text-sm">
            How a client opens it: <Command text={`candid disk show ${word(make.data.volume.name)}`} />
          </p>
          <Link className="press" to={`/volumes/${encodeURIComponent(make.data.volume.name)}`} onClick={close}>
            Go to the disk
          </Link>
        </>
      ) : (
        <form
          onSubmit={(e) => {
            e.preventDefault();
            make.mutate();
          }}
        >
          <Field label="Name" help="Lower-case letters, digits and dashes. Clients know it by this name.">
            <input className="field w-full" value={name} onChange={(e) => setName(e.target.value)} required />
          </Field>
          <Field
            label="Size"
            help={
              wrong
                ? "This is no size: write a number and a unit, such as 20 GiB."
                : from
                  ? "Such as 20 GiB; empty: as large as what it begins with."
                  : "Such as 20 GiB. It takes room for what is written."
            }
          >
            <input
              className="field w-full"
              value={length}
              aria-invalid={wrong}
              onChange={(e) => setLength(e.target.value)}
              required={!from}
            />
          </Field>
          <Field
            label="Begin with"
            help="A raw file or NBD socket below a root of this host, or nbd://HOST/EXPORT. Empty: all zeros."
          >
            <input className="field w-full font-mono" value={from} onChange={(e) => setFrom(e.target.value)} />
          </Field>
          <Field label="Labels" help="key=value, by which policies and routes choose.">
            <input
              className="field w-full"
              value={labels}
              onChange={(e) => setLabels(e.target.value)}
              placeholder="collection=registers"
            />
          </Field>
          <details className="my-3 text-sm">
            <summary className="cursor-pointer">Where its bytes are, and in which blocks</summary>
            <Field label="Image" help="A file that is not there yet, below a root. Empty: with the site's own data.">
              <input className="field w-full font-mono" value={image} onChange={(e) => setImage(e.target.value)} />
            </Field>
            <ChooseField
              label="Block"
              help="What a snapshot stores of a change at least. Smaller ones cost more objects; it stays as chosen."
              value={block}
              options={[4096, 16384, 65536, 262144, 1048576].map((n) => ({ value: String(n), label: size(n) }))}
              choose={setBlock}
            />
          </details>
          <Trouble error={make.error} />
          <div className="mt-4 flex gap-3">
            <button className="press" disabled={make.isPending || wrong}>
              {make.isPending ? "Making …" : "Make it"}
            </button>
            <button type="button" className="quiet" onClick={close}>
              Not now
            </button>
          </div>
        </form>
      )}
      <ByCommand lines={[command]} />
    </Sheet>
  );
}
