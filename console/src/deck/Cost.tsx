import { useState } from "react";
import { type MomentAnswer, type TableCost, useHosts } from "../api";
import { count, of, size } from "../format";
import { Table } from "../parts/Table";
import { Id } from "../parts/Id";

// Cost is what going back to the playhead undoes, and what can be done there.
export function Cost({ answer, making, onCopy }: { answer: MomentAnswer; making: boolean; onCopy: (host?: string) => void }) {
  const hosts = (useHosts().data ?? []).filter((h) => h.connected);
  const [host, setHost] = useState("");
  return (
    <section aria-label="Cost of rewinding">
      <h2>
        {answer.cost.transactions === 0
          ? "Nothing known was committed later"
          : `Going back here undoes ${count(answer.cost.transactions)} transaction${answer.cost.transactions === 1 ? "" : "s"}`}
      </h2>
      <UndoneTables of={answer.cost.tables ?? []} />
      <p className="mt-3 flex flex-wrap items-center gap-3">
        <button className="button primary" disabled={!answer.plan || making} onClick={() => onCopy(host || undefined)}>
          Make a side copy here
        </button>
        {hosts.length > 0 && (
          <span className="flex items-center gap-2 text-soft">
            on
            <select className="field w-auto" aria-label="host of the copy" value={host} onChange={(e) => setHost(e.target.value)}>
              <option value="">the service's own host</option>
              {hosts.map((h) => (
                <option key={h.id}>{h.name}</option>
              ))}
            </select>
          </span>
        )}
        <span className="text-soft">
          {answer.plan ? (
            <>
              The original is not touched. Base <Id of={answer.plan.base} /> and {size(answer.plan.replayBytes)} of WAL from{" "}
              {of(answer.plan.segments, "segment")}.
            </>
          ) : (
            <>
              Not possible here: {answer.why}. {answer.next}
            </>
          )}
        </span>
      </p>
    </section>
  );
}

// UndoneTables lists what of which table is undone.
export function UndoneTables({ of: tables }: { of: TableCost[] }) {
  if (tables.length === 0) return null;
  return (
    <>
      <Table heads={["Table", { number: "Inserted" }, { number: "Updated" }, { number: "Deleted" }]}>
        {tables.slice(0, 8).map((t) => (
          <tr key={t.table + (t.database ?? "")}>
            <td>
              {t.table}
              {(t.operations ?? []).length > 0 && <span className="text-soft"> {(t.operations ?? []).join(", ")}</span>}
            </td>
            <td className="number">{count(t.inserted)}</td>
            <td className="number">{count(t.updated)}</td>
            <td className="number">{count(t.deleted)}</td>
          </tr>
        ))}
      </Table>
      {tables.length > 8 && <p className="text-soft">and {tables.length - 8} more tables</p>}
    </>
  );
}
