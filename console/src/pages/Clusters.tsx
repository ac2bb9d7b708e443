import { Link, useNavigate, useSearch } from "@tanstack/react-router";
import { type Cluster, type Need, useCapture, useClusters, useTakeBackup } from "../api";
import { ago, count, size } from "../format";
import { Mark } from "../parts/Mark";
import { ReachStrip } from "../parts/ReachStrip";
import { labels } from "../parts/Table";
import { Time } from "../parts/Time";
import { Trouble, Waiting } from "../parts/Trouble";
import { type Sort, narrowed, rank } from "./fleet";
import { IncidentRow } from "./Incidents";

const mostNeeds = 8;

// Clusters answers: does anything need me, and how far back can each cluster go?
export function Clusters() {
  const clusters = useClusters();
  if (clusters.error) return <Trouble error={clusters.error} />;
  if (!clusters.data) return <Waiting what="the clusters" />;
  if (clusters.data.length === 0) return <Empty />;
  return (
    <>
      <Needs list={clusters.data} />
      <Fleet list={clusters.data} />
    </>
  );
}

// Needs is what needs attention, the worst first.
function Needs({ list }: { list: Cluster[] }) {
  const navigate = useNavigate();
  const attention = list.filter((c) => rank(c) > 0).sort((a, b) => rank(b) - rank(a) || a.name.localeCompare(b.name));
  return (
    <section aria-label="What needs attention">
      <h1>
        {attention.length === 0
          ? allIsWell(list)
          : attention.length === 1
            ? "One cluster needs attention"
            : `${count(attention.length)} of ${count(list.length)} clusters need attention`}
      </h1>
      {attention.slice(0, mostNeeds).map((c) => {
        const need = (c.needs ?? [])[0]!;
        return need.kind === "incident" ? (
          (c.incidents ?? [])
            .slice(0, 3)
            .map((i) => (
              <IncidentRow
                key={c.id + i.lsn}
                cluster={c.name}
                incident={i}
                onMoment={(moment) => void navigate({ to: "/clusters/$cluster", params: { cluster: c.name }, search: { moment } })}
              />
            ))
        ) : (
          <NeedRow key={c.id} cluster={c} need={need} more={(c.needs ?? []).length - 1} />
        );
      })}
      {attention.length > mostNeeds && (
        <p className="my-2 text-soft">and {count(attention.length - mostNeeds)} more, in the table below in this order</p>
      )}
    </section>
  );
}

// allIsWell says what holds where nothing needs attention: of a cluster whose first base backup is being taken, not that it
// can be rewound.
function allIsWell(list: Cluster[]): string {
  const first = list.filter((c) => (c.reach ?? []).length === 0);
  if (first.length === 0) return "Every cluster is captured and can be rewound.";
  return first.length === 1
    ? `${first[0]!.name} cannot be rewound yet: its first base backup is being taken.`
    : `${count(first.length)} clusters cannot be rewound yet: their first base backups are being taken.`;
}

const titles: { sort: Sort; title: string }[] = [
  { sort: "name", title: "Cluster" },
  { sort: "needs", title: "Needs" },
  { sort: "reach", title: "Reached since" },
  { sort: "promise", title: "Promise" },
  { sort: "lag", title: "Capture" },
  { sort: "base", title: "Last base backup" },
  { sort: "proof", title: "Last proof" },
];

// Fleet is the table of all clusters; what it is narrowed to and sorted by is in the URL.
function Fleet({ list }: { list: Cluster[] }) {
  const now = useSearch({ from: "/frame/" });
  const { q = "", sort = "needs", attention = false } = now;
  const navigate = useNavigate();
  const go = (search: { q?: string; sort?: Sort; attention?: boolean }) =>
    void navigate({ to: "/", search: { ...now, ...search }, replace: true });
  const shown = narrowed(list, q, attention, sort);
  return (
    <section aria-label="All clusters" className="mt-5">
      <form className="flex flex-wrap items-center gap-4" role="search" onSubmit={(e) => e.preventDefault()}>
        <input
          className="field"
          style={{ width: "22rem" }}
          type="search"
          aria-label="Name, policy or label"
          placeholder="name, policy, or label as fleet=outer"
          value={q}
          onChange={(e) => go({ q: e.target.value || undefined })}
        />
        <label>
          <input type="checkbox" checked={attention} onChange={(e) => go({ attention: e.target.checked || undefined })} /> only those that
          need attention
        </label>
        <span className="text-soft">
          {count(shown.length)} of {count(list.length)} · measured <Time at={list[0]?.measuredAt} />
        </span>
      </form>
      <table className="mt-2 w-full" style={labels(...titles.map((t) => t.title))}>
        <thead>
          <tr>
            {titles.map((t) => (
              <th key={t.sort} aria-sort={sort === t.sort ? "ascending" : undefined}>
                <button className="cursor-pointer" onClick={() => go({ sort: t.sort })}>
                  {t.title}
                  {sort === t.sort && <span aria-hidden> ▾</span>}
                </button>
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {shown.map((c) => (
            <Row key={c.id} cluster={c} />
          ))}
        </tbody>
      </table>
      {shown.length === 0 && <p className="py-3 text-soft">No cluster fits. Take a word away.</p>}
    </section>
  );
}

function Row({ cluster: c }: { cluster: Cluster }) {
  const worst = (c.needs ?? [])[0];
  return (
    <tr>
      <td className="whitespace-nowrap">
        <Link to="/clusters/$cluster" params={{ cluster: c.name }}>
          {c.name}
        </Link>
        {c.policy && <span className="ml-2 text-soft">{c.policy}</span>}
      </td>
      <td>
        {worst ? (
          <span title={worst.text}>
            <span aria-hidden className="text-undone">
              ▲{" "}
            </span>
            {worst.kind}
            {(c.needs ?? []).length > 1 && <span className="text-soft"> +{(c.needs ?? []).length - 1}</span>}
          </span>
        ) : (
          <span className="text-soft">none</span>
        )}
      </td>
      <td>
        <Time at={c.promise.heldFrom} none="nothing yet" />
        <ReachStrip cluster={c} />
      </td>
      <td title={c.promise.words}>{c.promise.held ? <Mark state="passed">held</Mark> : <Mark state="starting">not yet</Mark>}</td>
      <td>
        <Mark state={c.capture.state} />{" "}
        <span className="text-soft">{c.capture.completeTo ? ago(c.capture.completeTo) : size(c.capture.lagBytes)}</span>
      </td>
      <td>
        <Time at={c.lastBackup?.stoppedAt} none="none" />
      </td>
      <td>{c.lastProof ? <Mark state={c.lastProof.verdict} /> : <span className="text-soft">none</span>}</td>
    </tr>
  );
}

function NeedRow({ cluster, need, more }: { cluster: Cluster; need: Need; more: number }) {
  const capture = useCapture(cluster.name);
  const backup = useTakeBackup(cluster.name);
  const error = capture.error ?? backup.error;
  const params = { cluster: cluster.name };
  return (
    <div className="my-2 flex flex-wrap items-center gap-4 border-l-4 border-undone bg-raised px-3 py-1.5">
      <p className="flex-1">
        <span aria-hidden className="font-bold text-undone">
          ▲{" "}
        </span>
        <Link to="/clusters/$cluster" params={params} className="font-bold">
          {cluster.name}
        </Link>
        : {need.text} {more > 0 && <span className="text-soft">And {more} more.</span>}
      </p>
      {need.kind === "capture" && !cluster.capture.wanted && (
        <button className="button primary" onClick={() => capture.mutate(true)}>
          Start the capture
        </button>
      )}
      {need.kind === "capture" && cluster.capture.wanted && (
        <Link className="button" to="/clusters/$cluster/readiness" params={params}>
          Look at its readiness
        </Link>
      )}
      {(need.kind === "no base" || need.kind === "hole" || need.kind === "late") && (
        <button className="button primary" disabled={backup.isPending} onClick={() => backup.mutate()}>
          Take a base backup
        </button>
      )}
      {need.kind === "promise" && (
        <Link className="button" to="/clusters/$cluster/keep" params={params}>
          Look at what it keeps
        </Link>
      )}
      {error && <Trouble error={error} />}
    </div>
  );
}

function Empty() {
  return (
    <>
      <h1>No cluster is protected yet.</h1>
      <p className="my-3">
        Register the first one on the command line; it is tested on the spot, and what is missing is named with the SQL that fixes it:
      </p>
      <pre className="border border-line bg-raised p-3">
        velvet cluster add NAME --connect 'host=… user=… dbname=postgres' --password-file FILE
      </pre>
    </>
  );
}
