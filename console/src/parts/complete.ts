/** The part of a JSON Schema that completion uses. */
export type Schema = {
  $ref?: string;
  description?: string;
  type?: string | string[];
  enum?: unknown[];
  examples?: unknown[];
  properties?: Record<string, Schema>;
  additionalProperties?: Schema | boolean;
  items?: Schema;
  required?: string[];
  $defs?: Record<string, Schema>;
  oneOf?: Schema[];
  anyOf?: Schema[];
};

export type Suggestion = { insert: string; label: string; help: string; from: number };

const resolve = (s: Schema | undefined, root: Schema): Schema | undefined =>
  s?.$ref ? { ...root.$defs?.[s.$ref.replace("#/$defs/", "")], ...s, $ref: undefined } : s;

const choices = (s: Schema | undefined, root: Schema): Schema[] => {
  const r = resolve(s, root);
  return r
    ? [r, ...(r.oneOf ?? []).flatMap((o) => choices(o, root)), ...(r.anyOf ?? []).flatMap((o) => choices(o, root))]
    : [];
};

/** Where a line stands: the keys above it by indentation. A dash opens an item. */
function pathTo(lines: string[], at: number, indent: number): string[] {
  const path: string[] = [];
  let within = indent;
  for (let i = at - 1; i >= 0 && within > 0; i--) {
    const m = /^(\s*)(- +)?([\w.@/-]+):\s*(#.*)?$/.exec(lines[i]) ?? /^(\s*)(- +)([\w.@/-]+):/.exec(lines[i]);
    if (!m || m[1].length >= within) continue;
    if (m[2] && m[1].length + m[2].length <= within && !/:\s*$/.test(lines[i])) {
      path.unshift("-");
      within = m[1].length;
      continue;
    }
    path.unshift(m[3]);
    within = m[1].length;
  }
  return path;
}

/** What the schema says may stand at the cursor: keys not yet there, or values. */
export function complete(text: string, cursor: number, root: Schema): Suggestion[] {
  const before = text.slice(0, cursor);
  const lines = text.split("\n");
  const row = before.split("\n").length - 1;
  const typed = before.slice(before.lastIndexOf("\n") + 1);
  const key = /^(\s*)((?:- +)?)([\w-]*)$/.exec(typed);
  const value = /^(\s*)((?:- +)?)([\w-]+):\s+([^#{[]*)$/.exec(typed);
  const item = /^(\s*)- +([^#{[]*)$/.exec(typed);
  const walk = (path: string[]) =>
    path.reduce<Schema[]>(
      (at, k) =>
        at.flatMap((s) =>
          k === "-"
            ? choices(s.items, root)
            : [
                ...choices(s.properties?.[k], root),
                ...(typeof s.additionalProperties === "object" && !s.properties?.[k]
                  ? choices(s.additionalProperties, root)
                  : []),
              ],
        ),
      choices(root, root),
    );
  const values = (schemas: Schema[], word: string): Suggestion[] =>
    schemas
      .flatMap((s) =>
        (s.enum ?? s.examples ?? (s.type === "boolean" ? ["true", "false"] : [])).map((v) => ({
          insert: String(v),
          label: String(v),
          help: s.description ?? "",
          from: cursor - word.length,
        })),
      )
      .filter(
        (v, i, all) => v.label.startsWith(word) && v.label !== word && all.findIndex((o) => o.label === v.label) === i,
      );
  if (value) {
    const path = pathTo(lines, row, value[1].length + value[2].length);
    return values(walk([...path, ...(value[2] && path.at(-1) !== "-" ? ["-"] : []), value[3]]), value[4]);
  }
  if (item) {
    const found = values(walk([...pathTo(lines, row, item[1].length || 1).filter((k) => k !== "-"), "-"]), item[2]);
    if (found.length > 0) return found;
  }
  if (!key) return [];
  const indent = key[1].length + key[2].length;
  const path = pathTo(lines, row, indent);
  const at = walk([...path, ...(key[2] ? ["-"] : [])]);
  const there = new Set(siblings(lines, row, indent));
  return at
    .flatMap((s) => Object.entries(s.properties ?? {}))
    .filter(
      ([k], i, all) => k.startsWith(key[3]) && k !== key[3] && !there.has(k) && all.findIndex(([o]) => o === k) === i,
    )
    .map(([k, s]) => ({
      insert: `${k}: `,
      label: k,
      help: resolve(s, root)?.description ?? "",
      from: cursor - key[3].length,
    }));
}

/** The keys that stand beside a line. */
function siblings(lines: string[], row: number, indent: number): string[] {
  const found: string[] = [];
  for (const step of [-1, 1]) {
    for (let i = row + step; i >= 0 && i < lines.length; i += step) {
      const m = /^(\s*(?:- +)?)([\w-]+):/.exec(lines[i]);
      if (lines[i].trim() && /^\s*/.exec(lines[i])![0].length < indent && (!m || m[1].length < indent)) break;
      if (m && m[1].length === indent) found.push(m[2]);
    }
  }
  return found;
}
