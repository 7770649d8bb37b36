/** Has the browser keep a table as comma-separated values (RFC 4180). */
export function saveTable(name: string, rows: (string | number | undefined)[][]) {
  const cell = (v: string | number | undefined) => {
    const text = String(v ?? "");
    return /[",\n]/.test(text) ? `"${text.replaceAll('"', '""')}"` : text;
  };
  const text = rows.map((r) => r.map(cell).join(",") + "\n").join("");
  const link = document.createElement("a");
  link.href = URL.createObjectURL(new Blob([text], { type: "text/csv" }));
  link.download = name;
  link.click();
  URL.revokeObjectURL(link.href);
}
