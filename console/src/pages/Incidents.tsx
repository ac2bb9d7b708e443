import { Link } from "@tanstack/react-router";
import { type Cluster, type Incident, useSettle } from "../api";
import { Time } from "../parts/Time";
import { Trouble } from "../parts/Trouble";

// Incidents are the transactions that the cluster's rule marks and nobody has settled.
export function Incidents({ cluster, onMoment }: { cluster: Cluster; onMoment: (m: string) => void }) {
  return (cluster.incidents ?? []).map((i) => <IncidentRow key={i.lsn} cluster={cluster.name} incident={i} onMoment={onMoment} />);
}

// IncidentRow says in a sentence what happened, with what can be done about it.
export function IncidentRow({ cluster, incident: i, onMoment }: { cluster: string; incident: Incident; onMoment: (m: string) => void }) {
  const settle = useSettle(cluster);
  return (
    <div className="my-2 flex flex-wrap items-center gap-4 border-l-4 border-undone bg-raised px-3 py-2">
      <p className="flex-1">
        <span aria-hidden className="font-bold text-undone">
          ▲{" "}
        </span>
        <b>{(i.reasons ?? []).join("; ")}</b> in {cluster}, by tx{" "}
        <Link to="/clusters/$cluster/incidents/$xid" params={{ cluster, xid: String(i.xid) }} className="mono">
          {i.xid}
        </Link>
        {i.author && ` of ${i.author}`}, committed <Time at={i.time} />
      </p>
      <button className="button primary reads" onClick={() => onMoment(`before tx ${i.xid}`)}>
        Go to just before it
      </button>
      <button className="button" disabled={settle.isPending} onClick={() => settle.mutate({ xid: i.xid })}>
        Intended
      </button>
      {settle.error && <Trouble error={settle.error} />}
    </div>
  );
}
