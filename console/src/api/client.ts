import createClient from "openapi-fetch";

import { shownTimes } from "../parts/times";
import type { components, paths } from "./schema";

export type Schemas = components["schemas"];
export type Volume = Schemas["Volume"];
export type Snapshot = Schemas["Snapshot"];
export type Run = Schemas["Run"];
export type Today = Schemas["Today"];
export type Fold = Schemas["Fold"];
export type RulerLine = Schemas["RulerLine"];
export type Route = Schemas["Route"];
export type Timeline = Schemas["Timeline"];
export type Entry = Schemas["Entry"];
export type RestoreAsk = Schemas["RestoreAsk"];
export type RestoreResult = Schemas["RestoreResult"];

export const api = createClient<paths>({ baseUrl: "/api/v1" });

// Times in sentences are told as they are shown beside them.
api.use({
  onRequest({ request }) {
    request.headers.set("Candid-Times", shownTimes());
  },
});

/** What went wrong, in the site's own words. */
export class Problem extends Error {
  constructor(
    message: string,
    readonly status: number,
  ) {
    super(message);
  }
}

type Answer<T> = { data?: T; error?: { detail?: string; title?: string }; response: Response };

/** Returns the answer's data, or throws the problem that the site told. */
export async function told<T>(call: Promise<Answer<T>>): Promise<T> {
  const { data, error, response } = await call;
  if (error !== undefined || !response.ok) {
    throw new Problem(error?.detail ?? error?.title ?? `The site answered ${response.status}.`, response.status);
  }
  return data as T;
}

/** A header that makes a write count once, however often it is sent. */
export const once = () => ({ "Idempotency-Key": crypto.randomUUID() });
