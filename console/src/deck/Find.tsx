import { Link } from "@tanstack/react-router";
import { type ChangeQuery, useChanges } from "../api";
import { Table } from "../parts/Table";
import { Time } from "../parts/Time";
import { Trouble } from "../parts/Trouble";
import { Operations } from "./Around";
import type { Window } from "./view";

// Wanted is what transactions are looked for by.
export type Wanted = { kind?: string; table?: string; rows?: number; by?: string };

// any tells whether anything is said.
export const any = (w: Wanted) => !!(w.kind || w.table || w.rows || w.by);

const kinds = ["delete", "update", "insert", "truncate", "drop", "alter", "create", "rewrite"];
const most = 30;

// useFound asks for the transactions that are wanted, within a window of time; for none if nothing is said.
export function useFound(cluster: string, wanted: Wanted, window?: Window) {
  const query: ChangeQuery = {
    ...(wanted.kind ? { kind: wanted.kind as ChangeQuery["kind"] } : {}),
    ...(wanted.table ? { table: wanted.table } : {}),
    ...(wanted.rows ? { minRows: wanted.rows } : {}),
    ...(wanted.by ? { by: wanted.by } : {}),
    ...(window ? { from: new Date(window.from).toISOString(), to: new Date(window.to).toISOString() } : {}),
    order: "biggest",
    limit: most,
  };
  return useChanges(cluster, query, any(wanted));
}

// Find asks which transactions are wanted.
export function Find({ wanted, onWanted }: { wanted: Wanted; onWanted: (w: Wanted) => void }) {
  return (
    <form
      className="mt-3 flex flex-wrap items-center gap-3 max-md:hidden"
      aria-label="Search the change journal"
      onSubmit={(e) => e.preventDefault()}
    >
      <label className="flex-row! items-center gap-2">
        Find
        <select className="field w-auto!" value={wanted.kind ?? ""} onChange={(e) => onWanted({ ...wanted, kind: e.target.value })}>
          <option value="">any change</option>
          {kinds.map((k) => (
            <option key={k}>{k}</option>
          ))}
        </select>
      </label>
      <label className="flex-row! items-center gap-2">
        of table
        <input
          className="field mono w-40!"
          defaultValue={wanted.table ?? ""}
          placeholder="any"
          onBlur={(e) => onWanted({ ...wanted, table: e.target.value.trim() })}
          onKeyDown={(e) => e.key === "Enter" && onWanted({ ...wanted, table: e.currentTarget.value.trim() })}
        />
      </label>
      <label className="flex-row! items-center gap-2">
        of at least
        <input
          className="field w-24! text-right"
          type="number"
          min="0"
          defaultValue={wanted.rows ?? ""}
          onChange={(e) => onWanted({ ...wanted, rows: Number(e.target.value) || undefined })}
        />
        rows
      </label>
      <label className="flex-row! items-center gap-2">
        by
        <input
          className="field w-40!"
          defaultValue={wanted.by ?? ""}
          placeholder="anybody"
          onBlur={(e) => onWanted({ ...wanted, by: e.target.value.trim() })}
          onKeyDown={(e) => e.key === "Enter" && onWanted({ ...wanted, by: e.currentTarget.value.trim() })}
        />
      </label>
      {any(wanted) && (
        <button type="reset" className="button" onClick={() => onWanted({})}>
          All again
        </button>
      )}
    </form>
  );
}

// Found lists what was found, the largest first. A click goes to just before one.
export function Found(p: { cluster: string; found: ReturnType<typeof useFound>; onMoment: (m: string) => void }) {
  const { data, error } = p.found;
  if (error) return <Trouble error={error} />;
  if (!data) return null;
  const list = data.transactions ?? [];
  return (
    <section aria-label="Found transactions" className="mt-2">
      {list.length === 0 && <p className="text-soft">No transaction in the captured WAL, within what is shown above, matches.</p>}
      {list.length > 0 && (
        <Table heads={["Committed", { number: "Transaction" }, "What it did"]}>
          {list.map((x) => (
            <tr key={x.lsn} className="cursor-pointer hover:bg-raised" onClick={() => p.onMoment(`before tx ${x.xid}`)}>
              <td>
                <Time at={x.time} exact />
              </td>
              <td className="number">
                <Link to="/clusters/$cluster/incidents/$xid" params={{ cluster: p.cluster, xid: String(x.xid) }} className="mono">
                  {x.xid}
                </Link>
              </td>
              <td>
                <Operations of={x} />
              </td>
            </tr>
          ))}
        </Table>
      )}
      {list.length === most && <p className="text-soft">These are the largest {most}.</p>}
    </section>
  );
}
