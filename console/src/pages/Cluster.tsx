import { useCallback } from "react";
import { Link, useNavigate, useParams, useSearch } from "@tanstack/react-router";
import { type Backup, type Copy, useBackups, useCapture, useCluster, useCopies, useTakeBackup } from "../api";
import type { Wanted } from "../deck/Find";
import { RewindDeck } from "../deck/RewindDeck";
import { ago, count, size } from "../format";
import { Facts } from "../parts/Facts";
import { Mark } from "../parts/Mark";
import { Time } from "../parts/Time";
import { Trouble, Waiting } from "../parts/Trouble";
import { ClusterTabs } from "./ClusterTabs";
import { Incidents } from "./Incidents";
import { Table } from "../parts/Table";
import { Id } from "../parts/Id";

// DeckSearch is what the address says of the deck: the moment, the window of time, and which transactions are looked for.
export type DeckSearch = { moment?: string; from?: number; to?: number } & Wanted;

// ClusterPage answers: to which moment can I go back, and what is there to look at?
export function ClusterPage() {
  const { cluster: name } = useParams({ from: "/frame/clusters/$cluster" });
  const { moment, from, to, ...wanted } = useSearch({ from: "/frame/clusters/$cluster" });
  const navigate = useNavigate();
  const cluster = useCluster(name);
  const backups = useBackups(name);
  const copies = useCopies(name);
  const take = useTakeBackup(name);
  const capture = useCapture(name);
  const place = useCallback(
    (m: string, w?: { from: number; to: number }) =>
      void navigate({
        to: "/clusters/$cluster",
        params: { cluster: name },
        search: ({ kind, table, rows, by }) => ({
          kind,
          table,
          rows,
          by,
          ...(m ? { moment: m } : {}),
          ...(w ? { from: Math.round(w.from), to: Math.round(w.to) } : {}),
        }),
        replace: true,
      }),
    [navigate, name],
  );
  const look = useCallback(
    (w: Wanted) =>
      void navigate({
        to: "/clusters/$cluster",
        params: { cluster: name },
        search: ({ moment, from, to }) => ({ moment, from, to, ...w }),
        replace: true,
      }),
    [navigate, name],
  );
  if (cluster.error) return <Trouble error={cluster.error} />;
  if (!cluster.data) return <Waiting what={name} />;
  const c = cluster.data;
  const span = (c.reach ?? [])[0];
  return (
    <div className="max-md:flex max-md:flex-col">
      <ClusterTabs cluster={c.name} />
      <header className="flex flex-wrap items-baseline justify-between gap-3">
        <h1>
          {c.name}
          <span className="ml-4 text-base font-normal text-soft">
            {span ? (
              <>
                can be rewound to any moment since <Time at={span.fromTime} />
                {(c.holes ?? []).length > 0 &&
                  `, but for what is cross-hatched below: ${[...new Set((c.holes ?? []).map((h) => h.cause))].join("; ")}`}
              </>
            ) : (
              "cannot be rewound yet: it has no base backup"
            )}
          </span>
        </h1>
        <span className="flex items-baseline gap-3">
          <Mark state={c.capture.state}>
            capture {c.capture.state}
            {c.capture.completeTo && `, ${ago(c.capture.completeTo)}`}
          </Mark>
          {c.lastProof && (
            <Mark state={c.lastProof.verdict}>
              proof {c.lastProof.verdict}, <Time at={c.lastProof.finishedAt} />
            </Mark>
          )}
          {!c.capture.wanted && (
            <button className="button primary" onClick={() => capture.mutate(true)}>
              Start the capture
            </button>
          )}
          <button className={span ? "button" : "button primary"} disabled={take.isPending} onClick={() => take.mutate()}>
            Take a base backup
          </button>
        </span>
      </header>
      {c.capture.problem && <Trouble error={new Error(`capture: ${c.capture.problem}`)} />}
      {(take.error ?? capture.error) && <Trouble error={(take.error ?? capture.error)!} />}
      <div className="max-md:-order-1">
        <Incidents cluster={c} onMoment={place} />
      </div>
      {span && (
        <RewindDeck
          cluster={c}
          moment={moment ?? ""}
          window={from !== undefined && to !== undefined ? { from, to } : undefined}
          onPlace={place}
          wanted={wanted}
          onWanted={look}
        />
      )}
      <Copies list={copies.data ?? []} />
      <Backups list={backups.data ?? []} />
      <details className="mt-6">
        <summary className="cursor-pointer text-soft">About this cluster</summary>
        <div className="mt-3">
          <Facts
            rows={[
              ["connection", <code key="c">{c.connString}</code>],
              ["server", `PostgreSQL ${Math.floor(c.serverVersion / 10000)}.${c.serverVersion % 10000}`],
              ["system identifier", <code key="s">{c.systemId}</code>],
              ["data checksums", c.dataChecksums ? "on" : "off"],
              ["replication slot", <code key="l">{c.slot}</code>],
              ["safe here to", <code key="f">{c.capture.flushed}</code>],
              ["in the store to", <code key="t">{c.capture.stored}</code>],
              ["waiting for the store", size(c.capture.spooled)],
              ["retained by the slot", size(c.capture.retained) + (c.capture.room < 0 ? "" : `, room for ${size(c.capture.room)} more`)],
              [
                "server's clock",
                Math.abs(c.capture.clockAhead) < 0.05
                  ? "the same as the service's"
                  : `${Math.abs(c.capture.clockAhead).toFixed(1)} s ${c.capture.clockAhead > 0 ? "ahead of" : "behind"} the service's`,
              ],
            ]}
          />
          {c.capture.wanted && (
            <p className="mt-3">
              <button className="button destructive mr-3" onClick={() => capture.mutate(false)}>
                Stop the capture
              </button>
              <span className="text-soft">
                What is committed then cannot be reached until it is started again; the slot has the server retain WAL meanwhile.
              </span>
            </p>
          )}
        </div>
      </details>
    </div>
  );
}

function Copies({ list }: { list: Copy[] }) {
  return (
    <section className="mt-6" aria-label="Copies">
      <h2>Copies</h2>
      {list.length === 0 ? (
        <p className="text-soft py-1">None. Write a moment above and make a side copy of it: the original is not touched.</p>
      ) : (
        <Table heads={["Copy", "At", "State", { number: "Port" }, "Replayed to", "Proof"]}>
          {list.map((k) => (
            <tr key={k.id}>
              <td>
                <Link to="/copies/$copy" params={{ copy: k.id }} className="mono">
                  {k.name}
                </Link>
                {k.host && <span className="text-soft"> on {k.host}</span>}
              </td>
              <td>{k.moment}</td>
              <td>
                <Mark state={k.state} />
              </td>
              <td className="number mono">{k.port}</td>
              <td>
                <code>{k.replayed}</code>
                {k.replayedTo && (
                  <>
                    {" · "}
                    <Time at={k.replayedTo} />
                  </>
                )}
              </td>
              <td>{k.proof ? <Mark state={k.proof.verdict} /> : <span className="text-soft">none</span>}</td>
            </tr>
          ))}
        </Table>
      )}
    </section>
  );
}

function Backups({ list }: { list: Backup[] }) {
  if (list.length === 0) return null;
  return (
    <section className="mt-6" aria-label="Base backups">
      <h2>Base backups</h2>
      <Table
        heads={[
          "Base",
          "Ended",
          "Reaches from",
          "Kind",
          { number: "Holds" },
          { number: "Read" },
          { number: "Added" },
          { number: "Pages checked" },
          "Damaged",
        ]}
      >
        {list.map((b) => (
          <tr key={b.id}>
            <td>
              <Link to="/backups/$backup" params={{ backup: b.id }} className="mono">
                <Id of={b.id} />
              </Link>
              {b.lost && (
                <>
                  {" "}
                  <Mark state="failed">unreadable</Mark>
                </>
              )}
            </td>
            <td>
              <Time at={b.stoppedAt} />
            </td>
            <td>
              <code>{b.stop}</code>
            </td>
            <td>{b.kind}</td>
            <td className="number">{size(b.bytesHeld)}</td>
            <td className="number">{size(b.bytesRead)}</td>
            <td className="number">{size(b.bytesStored)}</td>
            <td className="number">{count(b.pages)}</td>
            <td>{b.pageFaults === 0 ? <Mark state="passed">none</Mark> : <Mark state="failed">{count(b.pageFaults)}</Mark>}</td>
          </tr>
        ))}
      </Table>
    </section>
  );
}
