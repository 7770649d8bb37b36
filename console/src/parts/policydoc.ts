import { type Document, isMap, isScalar, isSeq, parseDocument } from "yaml";

/** One policy document, whose text and form are two views of the same. Comments stay. */
export class PolicyDoc {
  private doc: Document;
  readonly broken: boolean;

  constructor(text: string) {
    this.doc = parseDocument(text);
    this.broken = this.doc.errors.length > 0 || (this.doc.contents !== null && !isMap(this.doc.contents));
  }

  /** A plain value as the form shows it; numbers and booleans as text. */
  text(...path: (string | number)[]): string {
    const v = this.broken ? undefined : this.doc.getIn(path);
    return v === undefined || v === null || typeof v === "object" ? "" : String(v);
  }

  flag(...path: string[]): boolean {
    return this.text(...path) === "true";
  }

  list(...path: (string | number)[]): string[] {
    const node = this.broken ? undefined : this.doc.getIn(path);
    return isSeq(node) ? node.items.map((i) => (isScalar(i) ? String(i.value) : String(i))) : [];
  }

  count(...path: (string | number)[]): number {
    const node = this.broken ? undefined : this.doc.getIn(path);
    return isSeq(node) ? node.items.length : 0;
  }

  keys(...path: (string | number)[]): string[] {
    const node = this.broken ? undefined : path.length ? this.doc.getIn(path) : this.doc.contents;
    return isMap(node) ? node.items.map((p) => String(isScalar(p.key) ? p.key.value : p.key)) : [];
  }

  /** The document's text with one value changed; an empty one is left out, and what holds nothing any more with it. */
  with(
    path: (string | number)[],
    value: string | number | boolean | string[] | Record<string, unknown> | undefined,
  ): string {
    const empty =
      value === undefined || value === "" || value === false || (Array.isArray(value) && value.length === 0);
    if (!empty) {
      this.doc.setIn(
        path,
        typeof value === "object"
          ? this.doc.createNode(value, { flow: path.length > 1 && !Array.isArray(value) })
          : plain(value),
      );
    } else if (this.doc.hasIn(path)) {
      this.doc.deleteIn(path);
      for (let up = path.slice(0, -1); up.length > 0; up = up.slice(0, -1)) {
        const node = this.doc.getIn(up);
        if ((isMap(node) || isSeq(node)) && node.items.length === 0) this.doc.deleteIn(up);
      }
    }
    return this.doc.toString({ lineWidth: 0, flowCollectionPadding: false });
  }
}

/** Digits are numbers, all else is text. */
function plain(v: string | number | boolean): string | number | boolean {
  return typeof v === "string" && /^\d+$/.test(v.trim()) ? Number(v) : v;
}
