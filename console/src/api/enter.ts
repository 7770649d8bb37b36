import { Problem } from "./client";

const mark = "#enter=";

/** Signs in by the address, where it is one that signs in once, and takes that out of the address. It says why not. */
export async function enter(): Promise<Problem | undefined> {
  const { hash, pathname, search } = window.location;
  if (!hash.startsWith(mark)) return undefined;
  window.history.replaceState(null, "", pathname + search);
  return signIn({ link: hash.slice(mark.length) }).then(
    () => undefined,
    (e: unknown) => (e instanceof Problem ? e : new Problem("The site does not answer.", 0)),
  );
}

/** Signs in, or throws a Problem. */
export async function signIn(by: { link: string } | { token: string } | { name: string; password: string }) {
  const r = await fetch("/api/v1/session", {
    method: "POST",
    headers: { "Content-Type": "application/json" },
    body: JSON.stringify(by),
  });
  if (!r.ok) throw new Problem(((await r.json()) as { detail?: string }).detail ?? "You were not let in.", r.status);
}
