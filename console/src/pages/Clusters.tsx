import { Link, useNavigate } from "@tanstack/react-router";
import { type Cluster, useCapture, useClusters, useTakeBackup } from "../api";
import { ago, clock, size } from "../format";
import { Mark } from "../parts/Mark";
import { ReachStrip } from "../parts/ReachStrip";
import { Time } from "../parts/Time";
import { Trouble, Waiting } from "../parts/Trouble";
import { IncidentRow } from "./Incidents";
import { type Need, needs } from "./needs";

// Clusters answers: does anything need me, and how far back can each cluster go?
export function Clusters() {
  const clusters = useClusters();
  const navigate = useNavigate();
  if (clusters.error) return <Trouble error={clusters.error} />;
  if (!clusters.data) return <Waiting what="the clusters" />;
  if (clusters.data.length === 0) return <Empty />;
  const all = clusters.data.flatMap((c) => needs(c).map((need) => ({ c, need })));
  const incidents = clusters.data.flatMap((c) => (c.incidents ?? []).map((i) => ({ c, i })));
  return (
    <>
      <h1>{all.length + incidents.length === 0 ? "Every cluster is captured and can be rewound." : "These need a person"}</h1>
      {incidents.map(({ c, i }) => (
        <IncidentRow key={c.id + i.lsn} cluster={c.name} incident={i} onMoment={(moment) => void navigate({ to: "/clusters/$cluster", params: { cluster: c.name }, search: { moment } })} />
      ))}
      {all.map(({ c, need }) => (
        <NeedRow key={c.id + need.text} cluster={c} need={need} />
      ))}
      <table className="mt-6 w-full">
        <thead>
          <tr>
            <th>Cluster</th>
            <th className="w-1/4">Reach</th>
            <th>Capture</th>
            <th className="number">Lag</th>
            <th>Last base backup</th>
            <th>Last proof</th>
          </tr>
        </thead>
        <tbody>
          {clusters.data.map((c) => (
            <Row key={c.id} cluster={c} />
          ))}
        </tbody>
      </table>
      <p className="mt-3 text-soft">
        Measured <Time at={clusters.data[0]?.measuredAt} />
      </p>
    </>
  );
}

function Row({ cluster: c }: { cluster: Cluster }) {
  const spans = c.reach ?? [];
  return (
    <tr>
      <td>
        <Link to="/clusters/$cluster" params={{ cluster: c.name }}>
          {c.name}
        </Link>
      </td>
      <td>
        {spans.length === 0 ? (
          <span className="text-soft">nothing yet</span>
        ) : (
          <>
            <span className="flex justify-between">
              <span>{clock(spans[0]!.fromTime)}</span>
              <span>{clock(spans[spans.length - 1]!.toTime)}</span>
            </span>
            <ReachStrip cluster={c} />
          </>
        )}
      </td>
      <td>
        <Mark state={c.capture.state} />
      </td>
      <td className="number">{c.capture.completeTo ? ago(c.capture.completeTo) : size(c.capture.lagBytes)}</td>
      <td>
        <Time at={c.lastBackup?.stoppedAt} none="none" />
      </td>
      <td>{c.lastProof ? <Mark state={c.lastProof.verdict} /> : <span className="text-soft">none</span>}</td>
    </tr>
  );
}

function NeedRow({ cluster, need }: { cluster: Cluster; need: Need }) {
  const capture = useCapture(cluster.name);
  const backup = useTakeBackup(cluster.name);
  const error = capture.error ?? backup.error;
  return (
    <div className="my-2 flex flex-wrap items-center gap-4 border-l-4 border-undone bg-raised px-3 py-2">
      <p className="flex-1">
        <span aria-hidden className="text-undone font-bold">▲ </span>
        {need.text}
      </p>
      {need.remedy === "start capture" && (
        <button className="button primary" onClick={() => capture.mutate(true)}>
          Start the capture
        </button>
      )}
      {need.remedy === "take base" && (
        <button className="button primary" onClick={() => backup.mutate()}>
          Take a base backup
        </button>
      )}
      {need.remedy === "look at proof" && cluster.lastProof && (
        <Link className="button" to="/copies/$copy" params={{ copy: cluster.lastProof.copy }}>
          Look at the proof
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
      <p className="my-3">Register the first one on the command line; it is tested on the spot, and what is missing is named with the SQL that mends it:</p>
      <pre className="border border-line bg-raised p-3">velvet cluster add NAME --connect 'host=… user=… dbname=postgres' --password-file FILE</pre>
    </>
  );
}
