import type { CSSProperties, ReactNode } from "react";

type Head = string | { number: string };

// labels name the columns to the style sheet, which writes them before the cells where a phone makes a list of the table.
export function labels(...heads: string[]): CSSProperties {
  return Object.fromEntries(heads.map((h, i) => [`--head-${i + 1}`, JSON.stringify(h)])) as CSSProperties;
}

// Table has heads over its columns; figures stand at the right.
export function Table(p: { heads: Head[]; className?: string; bare?: boolean; children: ReactNode }) {
  const text = (h: Head) => (typeof h === "string" ? h : h.number);
  return (
    <table className={p.className ?? "w-full"} style={p.bare ? undefined : labels(...p.heads.map(text))}>
      <thead className={p.bare ? "sr-only" : undefined}>
        <tr>
          {p.heads.map((h) => (
            <th key={text(h)} className={typeof h === "string" ? undefined : "number"}>
              {text(h)}
            </th>
          ))}
        </tr>
      </thead>
      <tbody>{p.children}</tbody>
    </table>
  );
}
