import { Link, useNavigate, useSearch } from "@tanstack/react-router";
import { type DigestLine, type Rehearsal, useDigest, useDigestReport, useRehearsals, useRehearse } from "../api";
import { date, lasted } from "../format";
import { Mark } from "../parts/Mark";
import { Table } from "../parts/Table";
import { Time } from "../parts/Time";
import { Trouble, Waiting } from "../parts/Trouble";

const marks: Record<string, string> = {
  proved: "passed",
  "proved in part": "could not run",
  "cannot be brought back": "failed",
  "nothing can be reached": "failed",
  "never proved": "waiting",
};

export type RehearsalsSearch = { days?: number; q?: string };

// RehearsalsPage answers: which of my clusters could I not bring back today?
export function RehearsalsPage() {
  const { days = 30, q = "" } = useSearch({ from: "/frame/rehearsals" });
  const navigate = useNavigate({ from: "/rehearsals" });
  const digest = useDigest(days);
  const runs = useRehearsals(days);
  const report = useDigestReport(days);
  const rehearse = useRehearse();
  if (digest.error) return <Trouble error={digest.error} />;
  if (!digest.data) return <Waiting what="the rehearsals" />;
  const lines = (digest.data.lines ?? []).filter((l) => l.cluster.includes(q));
  const byCluster = new Map<string, Rehearsal[]>();
  for (const r of runs.data ?? []) byCluster.set(r.cluster, [...(byCluster.get(r.cluster) ?? []), r]);
  return (
    <>
      <header className="flex flex-wrap items-baseline justify-between gap-3">
        <h1>{digest.data.first}</h1>
        <span className="flex gap-3">
          <button className="button" disabled={report.isPending} onClick={() => report.mutate("html")}>
            Download for print
          </button>
          <button className="button" disabled={report.isPending} onClick={() => report.mutate("csv")}>
            CSV
          </button>
        </span>
      </header>
      {(report.error ?? rehearse.error) && <Trouble error={(report.error ?? rehearse.error)!} />}
      <p className="my-2 flex flex-wrap gap-4">
        <label>
          Clusters with{" "}
          <input
            className="field"
            value={q}
            aria-label="Filter by name"
            onChange={(e) => void navigate({ search: (s) => ({ ...s, q: e.target.value || undefined }), replace: true })}
          />
        </label>
        <label>
          over{" "}
          <select
            className="field"
            value={days}
            onChange={(e) => void navigate({ search: (s) => ({ ...s, days: Number(e.target.value) }), replace: true })}
          >
            {[7, 30, 90].map((n) => (
              <option key={n} value={n}>
                {n} days
              </option>
            ))}
          </select>
        </label>
      </p>
      {lines.length === 0 ? (
        <p className="text-soft">No cluster has that in its name.</p>
      ) : (
        <Table heads={["Cluster", "Standing", "Last rehearsal", { number: "Passed" }, { number: "Back in" }, "Each run", "By day", ""]}>
          {lines.map((l) => (
            <Line
              key={l.cluster}
              line={l}
              runs={byCluster.get(l.cluster) ?? []}
              days={days}
              to={digest.data.to}
              rehearse={() => rehearse.mutate(l.cluster)}
            />
          ))}
        </Table>
      )}
    </>
  );
}

function Line(p: { line: DigestLine; runs: Rehearsal[]; days: number; to: string; rehearse: () => void }) {
  const l = p.line;
  return (
    <tr>
      <td className="whitespace-nowrap">
        <Link to="/clusters/$cluster" params={{ cluster: l.cluster }}>
          {l.cluster}
        </Link>
      </td>
      <td className="max-w-72">
        <Mark state={marks[l.standing] ?? "waiting"}>{l.standing}</Mark>
        {l.why && l.last && <span className="block text-soft">{l.why}</span>}
      </td>
      <td className="whitespace-nowrap">
        {l.last ? (
          <Link to="/tasks/$task" params={{ task: l.last.id }}>
            <Time at={l.last.endedAt} />
          </Link>
        ) : (
          <span className="text-soft">none</span>
        )}
      </td>
      <td className="number whitespace-nowrap">
        {l.good} of {l.runs}
      </td>
      <td className="number whitespace-nowrap">
        {l.backSeconds > 0 && lasted(l.backSeconds)}
        <span className="block text-soft">{l.kept === false ? <Mark state="failed">{objective(l)}</Mark> : objective(l)}</span>
      </td>
      <td>
        <Runs runs={p.runs} within={l.objective.backWithinSeconds} />
      </td>
      <td>
        <Days line={l} days={p.days} to={p.to} />
      </td>
      <td>
        <button className="button" onClick={p.rehearse}>
          Rehearse
        </button>
      </td>
    </tr>
  );
}

function objective(l: DigestLine): string {
  const parts = [];
  if (l.objective.backWithinSeconds) parts.push(`of ${lasted(l.objective.backWithinSeconds)}`);
  if (l.objective.losingAtMostSeconds) parts.push(`lose ≤ ${lasted(l.objective.losingAtMostSeconds)}`);
  return parts.join(", ");
}

const width = 120;
const height = 28;

// Runs draws how long each run took, oldest first, with the objective as a line.
function Runs({ runs, within }: { runs: Rehearsal[]; within: number }) {
  const list = runs.slice(0, 40).reverse();
  if (list.length === 0) return null;
  const total = (r: Rehearsal): number => r.laidOutSeconds + r.replayedSeconds + r.provedSeconds;
  const slowest = Math.max(...list.map(total));
  // An objective far above all runs would press them flat: then the line is left out, and the title says it.
  const top = within && within < 4 * slowest ? Math.max(slowest, within) : slowest;
  const y = (s: number): number => height - (top > 0 ? (s / top) * (height - 2) : 0);
  const step = width / Math.max(list.length, 8);
  const words = `${list.length} runs, the longest ${lasted(slowest)}${within ? `; to be back in ${lasted(within)}` : ""}`;
  return (
    <svg width={width} height={height} role="img" aria-label={words}>
      <title>{words}</title>
      {list.map((r, i) =>
        total(r) > 0 ? (
          <rect
            key={r.id}
            x={i * step}
            y={y(total(r))}
            width={Math.max(step - 1, 1)}
            height={height - y(total(r))}
            fill={r.outcome === "passed" ? "var(--kept)" : "var(--undone)"}
          />
        ) : (
          <text key={r.id} x={i * step} y={height - 2} fontSize="9" fill="var(--undone)">
            ✕
          </text>
        ),
      )}
      {within > 0 && within < 4 * slowest && (
        <line x1="0" x2={width} y1={y(within)} y2={y(within)} stroke="var(--brass)" strokeDasharray="3 2" />
      )}
    </svg>
  );
}

const shapes: Record<string, [string, string]> = {
  passed: ["var(--kept)", "passed"],
  failed: ["var(--undone)", "failed"],
  "no copy": ["var(--undone)", "no copy"],
  "could not run": ["var(--brass)", "proved in part"],
};

// Days is a calendar of verdicts: a square for each day, oldest first; what failed stands higher, so that colour is not all.
function Days({ line, days, to }: { line: DigestLine; days: number; to: string }) {
  const end = new Date(to);
  const all = Array.from({ length: days + 1 }, (_, i) => {
    const d = new Date(end.getTime() - (days - i) * 86_400_000);
    return d.toISOString().slice(0, 10);
  });
  const size = Math.max(2, Math.min(6, Math.floor(180 / all.length)));
  const counts = Object.values(line.days ?? {});
  const passed = counts.filter((o) => o === "passed").length;
  const words = `${passed} days passed, ${counts.length - passed} not, of ${days} to ${date(end)}`;
  return (
    <svg width={all.length * size} height={14} role="img" aria-label={words}>
      <title>{words}</title>
      {all.map((day, i) => {
        const outcome = line.days?.[day];
        const [colour, name] = (outcome && shapes[outcome]) || ["var(--line)", "not rehearsed"];
        const bad = outcome === "failed" || outcome === "no copy";
        return (
          <rect key={day} x={i * size} y={bad ? 0 : outcome ? 5 : 10} width={size - 1} height={bad ? 14 : outcome ? 9 : 4} fill={colour}>
            <title>
              {day}: {name}
            </title>
          </rect>
        );
      })}
    </svg>
  );
}
