import { Link, useNavigate, useParams } from "@tanstack/react-router";
import { type Author, type Transaction, useChange, useChanges, useMakeCopy, useSettle } from "../api";
import { Operations } from "../deck/Around";
import { count, size } from "../format";
import { Facts } from "../parts/Facts";
import { Rows } from "./Rows";
import { Table } from "../parts/Table";
import { Time } from "../parts/Time";
import { Trouble, Waiting } from "../parts/Trouble";
import { ClusterTabs } from "./ClusterTabs";

// IncidentPage tells the story of one transaction: what it did, when, what was committed meanwhile, and what to do now.
export function IncidentPage() {
  const { cluster, xid } = useParams({ from: "/frame/clusters/$cluster/incidents/$xid" });
  const change = useChange(cluster, xid);
  if (change.error) return <Trouble error={change.error} />;
  if (!change.data) return <Waiting what={`transaction ${xid}`} />;
  return (
    <>
      <ClusterTabs cluster={cluster} />
      {(change.data.transactions ?? []).map((x) => (
        <Story key={x.lsn} cluster={cluster} of={x} />
      ))}
    </>
  );
}

function Story({ cluster, of: x }: { cluster: string; of: Transaction }) {
  const tables = (x.tables ?? []).filter((t) => !t.table.startsWith("pg_catalog."));
  return (
    <article>
      <h1>
        <span aria-hidden className="text-undone">
          ▲{" "}
        </span>
        {(x.incident ?? []).join("; ") || `Transaction ${x.xid}`}
      </h1>
      <Actions cluster={cluster} of={x} />
      <div className="mt-4 grid grid-cols-[3fr_2fr] gap-8 max-lg:grid-cols-1">
        <section aria-label="What it did">
          <h2>What it did</h2>
          <Table heads={["Table", { number: "Inserted" }, { number: "Updated" }, { number: "Deleted" }, "Besides"]}>
            {tables.map((t) => (
              <tr key={t.table}>
                <td>{t.table}</td>
                <td className="number">{count(t.inserted)}</td>
                <td className="number">{count(t.updated)}</td>
                <td className={`number ${t.deleted > 0 ? "font-bold text-undone" : ""}`}>{count(t.deleted)}</td>
                <td>{(t.operations ?? []).join(", ")}</td>
              </tr>
            ))}
          </Table>
          {(x.droppedObjects ?? []).length > 0 && <p className="mt-2">Dropped: {(x.droppedObjects ?? []).join(", ")}.</p>}
          {(x.alterations ?? []).length > 0 && <p className="mt-2">Altered: {(x.alterations ?? []).join(", ")}.</p>}
        </section>
        <section aria-label="When">
          <h2>When</h2>
          <Facts
            rows={[
              ["transaction", <code key="x">{x.xid}</code>],
              [
                "by",
                x.author ? <By key="a" of={x.author} /> : <span className="text-soft">not seen: it was too short, or nobody looked</span>,
              ],
              ["statement", x.author?.statement && <code key="s">{x.author.statement}</code>],
              ["database", x.database],
              ["began", <Began key="b" cluster={cluster} of={x} />],
              [x.committed ? "committed" : "rolled back", <Time key="t" at={x.time} exact />],
              ["settled", x.settled ? "yes: it was intended, or undone" : "no"],
              ["WAL", `${size(x.bytes)}, from ${x.first} to ${x.lsn}`],
            ]}
          />
        </section>
      </div>
      <Rows cluster={cluster} of={x} />
      <Meanwhile cluster={cluster} of={x} />
    </article>
  );
}

// By names who was seen with the transaction's id.
function By({ of: a }: { of: Author }) {
  return (
    <>
      <b>{a.role}</b>
      {a.application && ` (${a.application})`}
      {a.address && ` from ${a.address}`}
    </>
  );
}

// Began says when a transaction wrote first: the WAL has a time only of what was committed before.
function Began({ cluster, of: x }: { cluster: string; of: Transaction }) {
  const before = useChanges(cluster, { before: x.first, order: "newest", limit: 1, empty: true });
  const last = before.data?.transactions?.[0];
  if (!before.data) return <span className="text-soft">…</span>;
  return (
    <>
      {x.partial && "before the captured WAL, or "}
      {last ? (
        <>
          after <Time at={last.time} exact />, when tx <code>{last.xid}</code> was committed
        </>
      ) : (
        "before anything else that is known"
      )}
    </>
  );
}

function Actions({ cluster, of: x }: { cluster: string; of: Transaction }) {
  const navigate = useNavigate();
  const make = useMakeCopy(cluster);
  const settle = useSettle(cluster);
  const moment = `before tx ${x.xid}`;
  const copy = (to: "/copies/$copy" | "/copies/$copy/rescue" | "/copies/$copy/takeover") =>
    make.mutate(
      // For a rescue it needs to hold only what the transaction touched.
      to === "/copies/$copy/rescue" ? { moment, rescue: true } : { moment },
      { onSuccess: (t) => t.subject && void navigate({ to, params: { copy: t.subject } }) },
    );
  return (
    <>
      <p className="mt-3 flex flex-wrap items-center gap-3">
        <button className="button primary" disabled={make.isPending} onClick={() => copy("/copies/$copy")}>
          Make a side copy just before it
        </button>
        {x.committed && (
          <button className="button" disabled={make.isPending} onClick={() => copy("/copies/$copy/rescue")}>
            Bring the rows back
          </button>
        )}
        <button className="button" disabled={make.isPending} onClick={() => copy("/copies/$copy/takeover")}>
          Take over from just before it
        </button>
        <Link to="/clusters/$cluster" params={{ cluster }} search={{ moment }} className="button no-underline">
          See what going back costs
        </Link>
        {(x.incident ?? []).length > 0 && !x.settled && (
          <>
            <button className="button" disabled={settle.isPending} onClick={() => settle.mutate({ xid: x.xid })}>
              Intended
            </button>
            <button className="button" disabled={settle.isPending} onClick={() => settle.mutate({ xid: x.xid, like: true })}>
              Intended, and normal from now on
            </button>
          </>
        )}
      </p>
      {(make.error ?? settle.error) && <Trouble error={(make.error ?? settle.error)!} />}
    </>
  );
}

const shown = 15;

// Meanwhile lists what others committed while the transaction was open: going back before it undoes none of these.
function Meanwhile({ cluster, of: x }: { cluster: string; of: Transaction }) {
  const others = useChanges(cluster, { after: x.first, before: x.lsn, order: "oldest", limit: shown });
  const list = others.data?.transactions ?? [];
  return (
    <section aria-label="Committed meanwhile" className="mt-6">
      <h2>Committed by others while it was open</h2>
      {others.data && list.length === 0 && <p className="text-soft">Nothing that changed a table.</p>}
      {list.length > 0 && (
        <>
          <p className="text-soft">A copy just before it has them all.</p>
          <Table heads={["Committed", { number: "Transaction" }, "What it did"]}>
            {list.map((o) => (
              <tr key={o.lsn}>
                <td>
                  <Time at={o.time} exact />
                </td>
                <td className="number mono">{o.xid}</td>
                <td>
                  <Operations of={o} />
                </td>
              </tr>
            ))}
          </Table>
          {others.data?.more && <p className="text-soft">These are the first {shown}.</p>}
        </>
      )}
    </section>
  );
}
