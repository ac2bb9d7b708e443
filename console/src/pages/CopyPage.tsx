import { Link, useParams } from "@tanstack/react-router";
import { type ReactNode, useCallback, useState } from "react";
import { type Copy, useCopy, useDiscard, useMoment, useOpenCopy, useProve, useStep, useTask } from "../api";
import { MomentField } from "../deck/MomentField";
import { Bar, amount } from "../parts/Bar";
import { Confirm } from "../parts/Confirm";
import { Facts } from "../parts/Facts";
import { ProofView } from "../parts/ProofView";
import { TaskLog } from "../parts/TaskLog";
import { Time } from "../parts/Time";
import { Trouble, Waiting } from "../parts/Trouble";

const headline: Record<string, string> = {
  "laying out": "The copy is being laid out.",
  replaying: "The copy is replaying WAL.",
  paused: "The copy stands at its moment, read-only.",
  open: "The copy is open for writing, on a timeline of its own.",
  down: "The copy's server is not running.",
  discarded: "The copy has been discarded.",
};

// CopyPage answers: is the copy where I want it, and is it right?
export function CopyPage() {
  const { copy: id } = useParams({ from: "/frame/copies/$copy" });
  const copy = useCopy(id);
  const prove = useProve(id);
  const open = useOpenCopy(id);
  const discard = useDiscard(id);
  if (copy.error) return <Trouble error={copy.error} />;
  if (!copy.data) return <Waiting what="the copy" />;
  const k = copy.data;
  const making = k.state === "laying out" || k.state === "replaying";
  const stands = k.state === "paused" || k.state === "open";
  return (
    <>
      <p className="text-soft">
        <Link to="/clusters/$cluster" params={{ cluster: k.cluster }}>
          {k.cluster}
        </Link>{" "}
        · copy <span title={k.id}>{k.name}</span> at <b className="text-ink">{k.moment}</b>
      </p>
      <header className="flex flex-wrap items-baseline justify-between gap-3">
        <h1>{headline[k.state] ?? k.state}</h1>
        <span className="flex gap-3">
          {stands && !k.partial && (
            <button className={k.proof ? "button" : "button primary"} disabled={prove.isPending} onClick={() => prove.mutate()}>
              {k.proof ? "Prove it again" : "Prove it"}
            </button>
          )}
          {k.state === "paused" && !k.partial && (
            <button className="button" disabled={open.isPending} onClick={() => open.mutate()}>
              Open for writing
            </button>
          )}
          {stands && (
            <Link className="button" to="/copies/$copy/rescue" params={{ copy: k.id }}>
              Bring rows back
            </Link>
          )}
          {k.state === "paused" && !k.host && !k.partial && (
            <Link className="button" to="/copies/$copy/takeover" params={{ copy: k.id }}>
              Take over
            </Link>
          )}
          {!making && k.state !== "discarded" && (
            <Confirm
              label="Discard"
              title="Discard this copy?"
              loss={
                `Its server on port ${k.port} ends and ${k.directory} is removed; what was changed in the copy is lost. ` +
                "Backups and WAL are not touched."
              }
              name={k.cluster}
              busy={discard.isPending}
              error={discard.error}
              onConfirm={(typed) => discard.mutate(typed)}
            />
          )}
        </span>
      </header>
      {(prove.error ?? open.error) && <Trouble error={(prove.error ?? open.error)!} />}
      {k.problem && <Trouble error={new Error(k.problem)} />}
      {making && <Making copy={k} />}
      {k.proof && <ProofView proof={k.proof} />}
      <Where copy={k} />
      {k.state === "paused" && !k.partial && <Stepper copy={k} />}
      {making && k.task && (
        <section aria-label="Log" className="mt-6">
          <h2>Log</h2>
          <TaskLog task={k.task} />
        </section>
      )}
    </>
  );
}

function Making({ copy }: { copy: Copy }) {
  const task = useTask(copy.task, copy.task !== "");
  if (!task.data) return null;
  return (
    <div className="my-4">
      <Bar task={task.data} />
      <p className="mt-1 flex justify-between">
        <span>{task.data.note}</span>
        <span className="text-soft">{amount(task.data)}</span>
      </p>
    </div>
  );
}

// Stepper moves a paused copy to another moment: not the right place yet, so a little
// earlier or later.
function Stepper({ copy: k }: { copy: Copy }) {
  const [moment, setMoment] = useState("");
  const answer = useMoment(k.cluster, moment || k.moment);
  const step = useStep(k.id);
  const onMoment = useCallback((m: string) => setMoment(m), []);
  const there = moment && !answer.error && !answer.isPlaceholderData ? answer.data : undefined;
  return (
    <section aria-label="Another moment" className="mt-6">
      <h2>Not the right place?</h2>
      <MomentField moment={moment} answer={there} error={moment ? answer.error : null} onMoment={onMoment} />
      <p className="mt-2 flex flex-wrap items-baseline gap-3">
        <button className="button" disabled={!there?.plan || step.isPending} onClick={() => there && step.mutate(there.moment)}>
          Move the copy there
        </button>
        <span className="text-soft">
          {there && !there.plan ? there.why : "Its server ends meanwhile; only what differs is written. The port stays the same."}
        </span>
      </p>
      {step.error && <Trouble error={step.error} />}
    </section>
  );
}

function Where({ copy: k }: { copy: Copy }) {
  const b = k.plan.boundary;
  return (
    <section aria-label="Where it stands" className="mt-6">
      <h2 className="mb-2">Where it stands</h2>
      <Facts
        rows={[
          [
            "holds only",
            k.partial && (
              <span key="p">
                the catalogs{k.partial.tables?.length ? ", and " : ""}
                <code>{k.partial.tables?.join(", ")}</code> of database {k.partial.database}. A query on another table fails; it is neither
                opened nor taken over.
              </span>
            ),
          ],
          ...(k.waysIn ?? []).map((way, i): [string, ReactNode] => [
            i === 0 ? "look at it with" : "or with",
            <span key={`way${i}`}>
              <code>{way.command}</code> <span className="text-soft">for {way.who}</span>
            </span>,
          ]),
          [
            "replayed to",
            k.replayed !== "0/0" && (
              <span key="r">
                <code>{k.replayed}</code>
                {k.replayedTo && (
                  <>
                    , last transaction committed <Time at={k.replayedTo} exact />
                  </>
                )}
              </span>
            ),
          ],
          [
            "last in",
            b.lastIn && (
              <span key="l">
                tx <code>{b.lastIn.xid}</code>, committed <Time at={b.lastIn.time} exact />
              </span>
            ),
          ],
          [
            "first out",
            b.firstOut && (
              <span key="f">
                tx <code>{b.firstOut.xid}</code>, committed <Time at={b.firstOut.time} exact />
              </span>
            ),
          ],
          ["begun from", <code key="b">{k.plan.base}</code>],
          ["host", k.host],
          ["directory", <code key="d">{k.directory}</code>],
          ["made", <Time key="m" at={k.createdAt} />],
          [
            "put there by task",
            <Link key="t" to="/tasks/$task" params={{ task: k.task }}>
              <code>{k.task}</code>
            </Link>,
          ],
        ]}
      />
    </section>
  );
}
