import { Link, useNavigate, useSearch } from "@tanstack/react-router";
import { type BackupLine, useClusters, useReport } from "../api";
import { lasted, of, short, size } from "../format";
import { Time } from "../parts/Time";
import { Trouble, Waiting } from "../parts/Trouble";
import { Id } from "../parts/Id";

export type ReportSearch = { cluster?: string; days?: number; sort?: Column };
type Column = "stoppedAt" | "seconds" | "bytesRead" | "bytesStored";

const columns: { name: Column; title: string }[] = [
  { name: "stoppedAt", title: "Complete" },
  { name: "seconds", title: "Took" },
  { name: "bytesRead", title: "Read" },
  { name: "bytesStored", title: "Stored" },
];

// ReportPage answers: what did base backups cost over time?
export function ReportPage() {
  const now = useSearch({ from: "/frame/reports" });
  const { cluster = "", days = 31, sort = "stoppedAt" } = now;
  const navigate = useNavigate();
  const clusters = useClusters();
  const report = useReport(cluster, days);
  const go = (search: ReportSearch) => void navigate({ to: "/reports", search: { ...now, ...search }, replace: true });
  if (report.error) return <Trouble error={report.error} />;
  if (!report.data) return <Waiting what="the report" />;
  const list = [...report.data].sort((a, b) =>
    sort === "stoppedAt" ? Date.parse(b.stoppedAt) - Date.parse(a.stoppedAt) : b[sort] - a[sort],
  );
  const sum = (of: "bytesRead" | "bytesStored") => size(report.data.reduce((n, b) => n + b[of], 0));
  return (
    <>
      <h1>
        {of(report.data.length, "base backup")} read {sum("bytesRead")} and stored {sum("bytesStored")}
      </h1>
      <form className="my-3 flex gap-4">
        <label className="text-soft">
          cluster
          <select className="field" value={cluster} onChange={(e) => go({ cluster: e.target.value || undefined })}>
            <option value="">all</option>
            {(clusters.data ?? []).map((c) => (
              <option key={c.id}>{c.name}</option>
            ))}
          </select>
        </label>
        <label className="text-soft">
          of the last days
          <input className="field" type="number" min={1} value={days} onChange={(e) => go({ days: Number(e.target.value) || undefined })} />
        </label>
        <a className="button self-end" download="base-backups.csv" href={`data:text/csv;charset=utf-8,${encodeURIComponent(csv(list))}`}>
          As CSV
        </a>
      </form>
      <Bars list={report.data} />
      <table className="mt-3 w-full">
        <thead>
          <tr>
            <th>Base</th>
            <th>Cluster</th>
            <th>Kind</th>
            {columns.map((c) => (
              <th key={c.name} className={c.name === "stoppedAt" ? "" : "number"} aria-sort={sort === c.name ? "descending" : undefined}>
                <button className="cursor-pointer" onClick={() => go({ sort: c.name })}>
                  {c.title}
                  {sort === c.name && <span aria-hidden> ▾</span>}
                </button>
              </th>
            ))}
            <th className="number">Holds</th>
          </tr>
        </thead>
        <tbody>
          {list.map((b) => (
            <tr key={b.id}>
              <td className="mono">
                {b.dropped ? (
                  <span className="text-soft" title={b.id}>
                    {short(b.id)} (deleted)
                  </span>
                ) : (
                  <Link to="/backups/$backup" params={{ backup: b.id }}>
                    <Id of={b.id} />
                  </Link>
                )}
              </td>
              <td>{b.cluster}</td>
              <td>{b.kind}</td>
              <td>
                <Time at={b.stoppedAt} />
              </td>
              <td className="number">{lasted(b.seconds)}</td>
              <td className="number">{size(b.bytesRead)}</td>
              <td className="number">{size(b.bytesStored)}</td>
              <td className="number">{size(b.bytesHeld)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </>
  );
}

const csv = (list: BackupLine[]): string =>
  [
    "backup,cluster,kind,complete_at,seconds,bytes_held,bytes_read,bytes_stored,let_go",
    ...list.map((b) => [b.id, b.cluster, b.kind, b.stoppedAt, b.seconds, b.bytesHeld, b.bytesRead, b.bytesStored, b.dropped].join(",")),
  ].join("\n");

// Bars draws what each base backup read, and within it what it stored.
function Bars({ list }: { list: BackupLine[] }) {
  const width = 960;
  const height = 130;
  const most = Math.max(1, ...list.map((b) => Math.max(b.bytesRead, b.bytesStored)));
  const step = width / Math.max(1, list.length);
  return (
    <figure>
      <figcaption className="text-soft">
        <span aria-hidden className="text-velvet">
          □
        </span>{" "}
        read ·{" "}
        <span aria-hidden className="text-velvet">
          ■
        </span>{" "}
        stored, oldest at the left; the highest is {size(most)}
      </figcaption>
      <svg
        viewBox={`0 0 ${width} ${height}`}
        className="w-full"
        role="img"
        aria-label={`base backups over time, at most ${size(most)} each`}
      >
        {list.map((b, i) => {
          const read = (b.bytesRead / most) * (height - 6);
          const stored = (b.bytesStored / most) * (height - 6);
          const w = Math.max(1, Math.min(28, step * 0.8));
          return (
            <g key={b.id}>
              <title>{`${b.cluster} ${b.stoppedAt}: read ${size(b.bytesRead)}, stored ${size(b.bytesStored)}`}</title>
              <rect x={i * step + 1} width={w} y={height - 1 - read} height={Math.max(1, read)} fill="none" stroke="var(--velvet)" />
              <rect x={i * step + 1} width={w} y={height - 1 - stored} height={Math.max(1, stored)} fill="var(--velvet)" />
            </g>
          );
        })}
        <line x1="0" x2={width} y1={height - 0.5} y2={height - 0.5} stroke="var(--line)" />
      </svg>
    </figure>
  );
}
