import { useNavigate, useSearch } from "@tanstack/react-router";
import { useClusters, useTrail, useTrailCheck } from "../api";
import { count } from "../format";
import { Mark } from "../parts/Mark";
import { Table } from "../parts/Table";
import { Time } from "../parts/Time";
import { Trouble, Waiting } from "../parts/Trouble";

export type TrailSearch = { cluster?: string; before?: number };

// TrailPage answers: who did what, and is that what was written at the time?
export function TrailPage() {
  const search = useSearch({ from: "/frame/trail" });
  const navigate = useNavigate();
  const trail = useTrail(search);
  const clusters = useClusters();
  const go = (search: TrailSearch) => void navigate({ to: "/trail", search });
  if (trail.error) return <Trouble error={trail.error} />;
  if (!trail.data) return <Waiting what="the trail" />;
  const last = trail.data.at(-1);
  return (
    <>
      <header className="flex flex-wrap items-baseline justify-between gap-3">
        <h1>Trail</h1>
        <Whole />
      </header>
      <form className="my-3 flex gap-4">
        <label className="text-soft">
          cluster
          <select className="field" value={search.cluster ?? ""} onChange={(e) => go(e.target.value ? { cluster: e.target.value } : {})}>
            <option value="">any</option>
            {(clusters.data ?? []).map((c) => (
              <option key={c.name}>{c.name}</option>
            ))}
          </select>
        </label>
      </form>
      <Table heads={[{ number: "No." }, "When", "Who", "Did", "Cluster", "What to", "Outcome"]}>
        {trail.data.map((e) => (
          <tr key={e.number} title={`SHA-256 ${e.hash}`}>
            <td className="number">{e.number}</td>
            <td>
              <Time at={e.at} />
            </td>
            <td>
              {e.who}
              {e.from && <span className="text-soft"> {e.from}</span>}
            </td>
            <td className="whitespace-nowrap">{e.did}</td>
            <td>{e.cluster}</td>
            <td className="break-all">{e.subject}</td>
            <td className="break-words">{e.outcome}</td>
          </tr>
        ))}
      </Table>
      {trail.data.length === 0 && <p className="py-3 text-soft">Nothing has been done yet.</p>}
      {last && last.number > 1 && (
        <button className="button mt-3" onClick={() => go({ ...search, before: last.number })}>
          Earlier
        </button>
      )}
    </>
  );
}

// Whole says whether the trail is what was written.
function Whole() {
  const check = useTrailCheck();
  if (check.error) return <Trouble error={check.error} />;
  if (!check.data) return null;
  if (check.data.broken) return <Mark state="failed">{check.data.broken}</Mark>;
  return <Mark state="passed">{count(check.data.entries)} entries, each as it was written</Mark>;
}
