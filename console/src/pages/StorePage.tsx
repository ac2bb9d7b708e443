import { Link } from "@tanstack/react-router";
import { type Store, type StoreCluster, useAudit, useLookThrough, useStore } from "../api";
import { count, of, size } from "../format";
import { Facts } from "../parts/Facts";
import { Growth } from "../parts/Growth";
import { Mark } from "../parts/Mark";
import { Time } from "../parts/Time";
import { Trouble, Waiting } from "../parts/Trouble";
import { Table } from "../parts/Table";

// StorePage answers: what is kept where, what does it take, and is all of it whole?
export function StorePage() {
  const store = useStore();
  const look = useLookThrough();
  if (store.error) return <Trouble error={store.error} />;
  if (!store.data) return <Waiting what="the store" />;
  const s = store.data;
  const clusters = s.clusters ?? [];
  return (
    <>
      <header className="flex flex-wrap items-baseline justify-between gap-3">
        <h1>
          Store
          <span className="ml-4 text-base font-normal text-soft">{sentence(clusters)}</span>
        </h1>
        <span className="flex gap-3">
          <button className="button" disabled={look.isPending} onClick={() => look.mutate({ full: false, fix: false })}>
            Check presence
          </button>
          <button className="button" disabled={look.isPending} onClick={() => look.mutate({ full: true, fix: false })}>
            Read every byte
          </button>
        </span>
      </header>
      {look.error && <Trouble error={look.error} />}
      {s.trouble && <Trouble error={new Error(`the second store cannot be reached: ${s.trouble}`)} />}
      <div className="my-4">
        <Facts
          rows={[
            ["where", <code key="w">{s.name}</code>],
            [
              "encrypted",
              s.encrypted ? (
                <Mark key="e" state="passed">
                  with data key {s.keyNumber}, made <Time at={s.keyMade} />
                </Mark>
              ) : (
                <Mark key="e" state="stopped">
                  no; whoever reads the store reads the data
                </Mark>
              ),
            ],
            [
              "second store",
              s.second ? (
                <code key="s">{s.second}</code>
              ) : (
                <span key="s" className="text-soft">
                  none: a lost disk loses every backup; name one with --second-store
                </span>
              ),
            ],
            ...(s.locks ?? []).map((l): [string, string] => ["object lock", `${l.store}: ${l.text}`]),
            ["audited", <Audited key="a" store={s} />],
          ]}
        />
      </div>
      <h2>By cluster</h2>
      <Clusters list={clusters} second={!!s.second} />
      <p className="mt-1 text-soft">
        measured <Time at={s.measured} />
      </p>
      {clusters.some((c) => (c.growth ?? []).length > 0) && (
        <section aria-label="Use over time" className="mt-6">
          <h2>Use over time</h2>
          <Growth clusters={clusters} />
        </section>
      )}
      {s.audit && s.audit.findings > 0 && <Findings task={s.audit.task} />}
    </>
  );
}

// sentence is the answer in a line.
function sentence(list: StoreCluster[]): string {
  const held = list.reduce((n, c) => n + c.held, 0);
  const packs = list.reduce((n, c) => n + c.packs, 0);
  const wal = list.reduce((n, c) => n + c.wal + c.journal, 0);
  if (held === 0) return wal === 0 ? "empty" : `${size(wal)} of WAL and its journal, no base backup yet`;
  return `${size(held)} of base backups take ${size(packs)}, and ${size(wal)} of WAL and its journal`;
}

function Audited({ store }: { store: Store }) {
  const a = store.audit;
  if (!a) return <span className="text-soft">never</span>;
  const state = a.costing > 0 ? "failed" : "passed";
  return (
    <Mark state={state}>
      <Link to="/tasks/$task" params={{ task: a.task }}>
        <Time at={a.at} />
      </Link>
      , {a.full ? "every byte" : "by presence"}:{" "}
      {a.findings === 0
        ? "everything that is needed is there"
        : `${count(a.findings)} findings, ${a.costing > 0 ? `${count(a.costing)} of them prevent a restore` : "none prevents one"}`}
      {a.behind ? `; ${count(a.behind)} objects were not in the second store yet` : ""}
    </Mark>
  );
}

function Clusters({ list, second }: { list: StoreCluster[]; second: boolean }) {
  if (list.length === 0)
    return <p className="text-soft">Nothing is kept yet. Protect a cluster first: velvet cluster add NAME --connect …</p>;
  return (
    <Table
      heads={[
        "Cluster",
        { number: "Bases" },
        { number: "They hold" },
        { number: "They take" },
        { number: "Saved" },
        { number: "WAL" },
        { number: "Journal" },
        { number: "Objects" },
        "Second store",
      ]}
    >
      {list.map((c) => (
        <tr key={c.cluster}>
          <td>
            {c.known ? (
              <Link to="/clusters/$cluster" params={{ cluster: c.cluster }}>
                {c.cluster}
              </Link>
            ) : (
              <span>
                <code>{c.cluster}</code> is not in the catalogue
              </span>
            )}
          </td>
          <td className="number">{c.backups}</td>
          <td className="number">{size(c.held)}</td>
          <td className="number">{size(c.packs)}</td>
          <td className="number">{c.held > 0 ? `${(100 * (1 - c.packs / c.held)).toFixed(1)} %` : ""}</td>
          <td className="number">{size(c.wal)}</td>
          <td className="number">{size(c.journal)}</td>
          <td className="number">{count(c.objects)}</td>
          {second && <td>{c.second ? <Mark state="done">copied</Mark> : <Mark state="stopped">not copied</Mark>}</td>}
        </tr>
      ))}
    </Table>
  );
}

// Findings is what the newest audit found, what prevents a restore first.
function Findings({ task }: { task: string }) {
  const audit = useAudit(task);
  if (audit.error) return <Trouble error={audit.error} />;
  if (!audit.data) return null;
  return (
    <section aria-label="Findings" className="mt-6">
      <h2>Findings of the newest audit</h2>
      {(audit.data.losses ?? []).map((l) => (
        <p key={l.cluster} className="my-1">
          <Mark state="failed">
            {l.cluster}: {(l.backups ?? []).length > 0 && `${of((l.backups ?? []).length, "base backup")} cannot be restored`}
            {(l.reach ?? []).map((r) => ` · no moment from ${r.from} to ${r.to} on timeline ${r.timeline} can be reached`)}
          </Mark>
        </p>
      ))}
      <Table heads={["What", "Object", "Why"]}>
        {(audit.data.findings ?? []).map((f) => (
          <tr key={f.kind + f.key}>
            <td>
              <Mark state={f.costs ? "failed" : f.fixed ? "done" : "cancelled"}>{f.fixed ? `${f.kind}, fixed` : f.kind}</Mark>
            </td>
            <td className="mono break-all">{f.key}</td>
            <td>{f.elsewhere && !f.fixed ? "the second store has it whole" : f.detail}</td>
          </tr>
        ))}
      </Table>
    </section>
  );
}
