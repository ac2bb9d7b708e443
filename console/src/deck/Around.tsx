import type { MomentAnswer, TableChange, Transaction } from "../api";
import { count } from "../format";
import { Time } from "../parts/Time";
import { Table } from "../parts/Table";

// Around lists the transactions on both sides of the boundary: kept above the brass
// line, undone below. A click goes to just before one.
export function Around({ answer, onMoment }: { answer: MomentAnswer; onMoment: (m: string) => void }) {
  const list = answer.around ?? [];
  return (
    <section aria-label="Transactions around the playhead">
      <h2>Transactions around the playhead</h2>
      {list.length === 0 && <p className="py-1 text-soft">None is known that changed a table.</p>}
      <Table bare heads={["Side", "Committed", "Transaction", "What it did"]}>
        {list.map((x, i) => (
          <tr
            key={x.lsn}
            className={`cursor-pointer hover:bg-raised ${i === answer.kept ? "[&>td]:border-t-2 [&>td]:border-t-brass" : ""}`}
            onClick={() => onMoment(`before tx ${x.xid}`)}
          >
            <td className={`whitespace-nowrap font-bold ${i < answer.kept ? "text-kept" : "text-undone"}`}>
              {i < answer.kept ? "◂ kept" : "▸ undone"}
            </td>
            <td>
              <Time at={x.time} exact />
            </td>
            <td className="number">
              <button className="mono cursor-pointer underline underline-offset-2" title={`go to before tx ${x.xid}`}>
                {x.xid}
              </button>
            </td>
            <td>
              <Operations of={x} />
            </td>
          </tr>
        ))}
      </Table>
    </section>
  );
}

// most is how many tables of one transaction are named.
const most = 4;

// Operations says in short what a transaction did.
export function Operations({ of: x }: { of: Transaction }) {
  const tables = x.tables ?? [];
  const objects = x.droppedObjects ?? [];
  return (
    <>
      {tables.slice(0, most).map((t, i) => (
        <span key={t.table}>
          {i > 0 && ", "}
          <Operation of={t} />
        </span>
      ))}
      {tables.length > most && <span className="text-soft"> and {tables.length - most} more</span>}
      {x.droppedDatabases > 0 && <b className="text-undone"> drop a database</b>}
      {objects.slice(0, most).map((o) => (
        <span key={o}>
          {" "}
          <b className="text-undone">drop</b> {o}
        </span>
      ))}
      {tables.length === 0 && objects.length === 0 && x.droppedDatabases === 0 && (
        <span className="text-soft">no rows of users' tables</span>
      )}
      {x.partial && <span className="text-soft"> (at least)</span>}
      {(x.incident ?? []).length > 0 && (
        <span className="ml-2 font-bold text-undone" title={(x.incident ?? []).join("; ")}>
          ▲ incident
        </span>
      )}
    </>
  );
}

function Operation({ of: t }: { of: TableChange }) {
  return (
    <>
      {t.inserted !== 0 && <span className="mono mr-1 text-kept">+{count(t.inserted)}</span>}
      {t.updated !== 0 && <span className="mono mr-1 text-soft">~{count(t.updated)}</span>}
      {t.deleted !== 0 && <span className="mono mr-1 font-bold text-undone">−{count(t.deleted)}</span>}
      {(t.operations ?? []).map((d) => (
        <b key={d} className={`mr-1 ${d === "drop" || d === "truncate" ? "text-undone" : "text-soft"}`}>
          {d}
        </b>
      ))}
      {t.table}
    </>
  );
}
