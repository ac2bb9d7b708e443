import type { ReactNode } from "react";

// Facts are names and values, one below the other; what has no value is left out.
export function Facts({ rows }: { rows: [string, ReactNode | undefined][] }) {
  return (
    <dl className="grid grid-cols-[max-content_1fr] gap-x-6 gap-y-1">
      {rows
        .filter(([, value]) => value !== undefined && value !== "" && value !== false)
        .map(([name, value]) => (
          <div key={name} className="contents">
            <dt className="text-soft">{name}</dt>
            <dd className="min-w-0 break-words">{value}</dd>
          </div>
        ))}
    </dl>
  );
}
