import { useState } from "react";
import { type Cell, type Row, type Transaction, useRows } from "../api";
import { Table } from "../parts/Table";
import { Trouble, Waiting } from "../parts/Trouble";

// Rows shows some of the rows that a transaction changed, as far as the WAL holds them.
export function Rows({ cluster, of: x }: { cluster: string; of: Transaction }) {
  const tables = (x.tables ?? [])
    .filter((t) => t.inserted + t.updated + t.deleted > 0 && !t.table.startsWith("pg_catalog."))
    .sort((a, b) => b.inserted + b.updated + b.deleted - (a.inserted + a.updated + a.deleted));
  const [chosen, choose] = useState(0);
  const table = tables[chosen];
  if (!table) return null;
  return (
    <section className="mt-6" aria-label="Rows that it changed">
      <h2>Rows that it changed</h2>
      <p className="my-1 flex flex-wrap gap-2" role="group" aria-label="Table">
        {tables.slice(0, 8).map((t, i) => (
          <button
            key={t.table}
            className={`button ${i === chosen ? "border-velvet font-bold" : ""}`}
            aria-pressed={i === chosen}
            onClick={() => choose(i)}
          >
            {t.table}
          </button>
        ))}
      </p>
      <RowsOf cluster={cluster} xid={x.xid} table={table.table} />
    </section>
  );
}

function RowsOf({ cluster, xid, table }: { cluster: string; xid: number; table: string }) {
  const rows = useRows(cluster, xid, table);
  if (rows.error) return <Trouble error={rows.error} />;
  if (!rows.data) return <Waiting what={`rows of ${table}`} />;
  const list = rows.data.rows ?? [];
  const known = list.filter((r) => r.before ?? r.after);
  const columns = known[0] ? cells(known[0]).map((c) => c.column) : [];
  return (
    <>
      {known.length > 0 && (
        <div className="overflow-x-auto">
          <Table heads={["", "Place", ...columns]}>
            {known.map((r) => (
              <tr key={r.lsn + r.place + r.operation}>
                <td className="whitespace-nowrap">{r.operation}</td>
                <td className="mono">{r.place}</td>
                {cells(r).map((c, i) => (
                  <td key={c.column}>
                    <Value of={c} />
                    {r.before && r.after?.[i] && text(c) !== text(r.after[i]) && (
                      <>
                        {" → "}
                        <b className="text-undone">
                          <Value of={r.after[i]} />
                        </b>
                      </>
                    )}
                  </td>
                ))}
              </tr>
            ))}
          </Table>
        </div>
      )}
      {rows.data.more && (
        <p className="mt-1 text-soft">
          These are the first. More: velvet changes rows {cluster + " " + xid} --table {table}
        </p>
      )}
      {(rows.data.look ?? []).map((l) => (
        <div key={l.moment + l.query} className="mt-2">
          <p className="text-soft">
            {known.length < list.length ? `${list.length - known.length} of these rows are` : "A part of them is"} not in the WAL. A copy at
            “{l.moment}” shows them:
          </p>
          <pre className="my-1 overflow-x-auto border border-line bg-raised p-3 whitespace-pre-wrap">{l.query}</pre>
        </div>
      ))}
    </>
  );
}

const cells = (r: Row): Cell[] => r.before ?? r.after ?? [];
const text = (c: Cell) => c.value ?? c.why ?? "NULL";
const longest = 40;

function Value({ of: c }: { of: Cell }) {
  if (c.value == null) return <span className="text-soft">{c.why ? `? ${c.why}` : "NULL"}</span>;
  return <span title={c.value}>{c.value.length > longest ? `${c.value.slice(0, longest - 1)}…` : c.value}</span>;
}
