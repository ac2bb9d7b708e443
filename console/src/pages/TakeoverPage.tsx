import { Link, useParams } from "@tanstack/react-router";
import { type ReactNode, useState } from "react";
import { Problem, type Takeover, type TakeoverUsers, useProve, useTakeOver, useTakeoverPlan, useTakeovers, useTasks } from "../api";
import { UndoneTables } from "../deck/Cost";
import { count } from "../format";
import { Bar } from "../parts/Bar";
import { Confirm } from "../parts/Confirm";
import { Facts } from "../parts/Facts";
import { Mark } from "../parts/Mark";
import { TaskLog } from "../parts/TaskLog";
import { Time } from "../parts/Time";
import { Trouble, Waiting } from "../parts/Trouble";

// TakeoverPage answers: what happens if this copy takes the place of its original, how far is it, and what is the way back?
export function TakeoverPage() {
  const { copy } = useParams({ from: "/frame/copies/$copy/takeover" });
  const plan = useTakeoverPlan(copy);
  const list = useTakeovers(plan.data?.cluster);
  const tasks = useTasks({ active: true, cluster: plan.data?.cluster });
  if (plan.error) return <Trouble error={plan.error} />;
  if (!plan.data || !list.data) return <Waiting what="what a takeover would do" />;
  const begun = list.data.find((t) => t.copy === plan.data.copy && t.step !== "laid over");
  const task = (tasks.data ?? []).find((t) => t.kind === "takeover" || t.kind === "proof");
  return (
    <>
      <p className="text-soft">
        <Link to="/clusters/$cluster" params={{ cluster: plan.data.cluster }}>
          {plan.data.cluster}
        </Link>{" "}
        ·{" "}
        <Link to="/copies/$copy" params={{ copy }}>
          copy {plan.data.copy}
        </Link>{" "}
        at <b className="text-ink">{plan.data.moment}</b>
      </p>
      <h1>{headline(plan.data, begun)}</h1>
      <div className="mt-4 grid grid-cols-[3fr_2fr] gap-8 max-lg:grid-cols-1">
        <div>
          {begun ? <Outcome of={begun} /> : <Word of={plan.data} copy={copy} busy={task !== undefined} />}
          {task && (
            <section aria-label="Now" className="mt-4">
              <Bar task={task} />
              <TaskLog task={task.id} />
            </section>
          )}
          {!begun && <Undoes of={plan.data} />}
          <Original of={begun ?? plan.data} />
        </div>
        <div>
          <Walk of={begun} proved={plan.data.plan?.verdict === "passed"} />
          <WayBack of={begun ?? plan.data} />
        </div>
      </div>
    </>
  );
}

function headline(plan: Takeover, begun: Takeover | undefined): string {
  switch (begun?.step) {
    case undefined:
      return `Put this copy in the place of ${plan.cluster}?`;
    case "in service":
      return `${plan.cluster} serves again, as it was ${plan.moment}.`;
    case "as before":
      return `Everything is as before: ${plan.cluster} was not taken over.`;
  }
  return `${plan.cluster} is being taken over: ${begun!.step}.`;
}

// Word is what a person must know before it is given.
function Word({ of: t, copy, busy }: { of: Takeover; copy: string; busy: boolean }) {
  const prove = useProve(copy);
  const take = useTakeOver(copy);
  const [refuse, setRefuse] = useState(false);
  const p = t.plan!;
  const obstacles = p.obstacles ?? [];
  return (
    <section aria-label="The word">
      <p>{p.loss}.</p>
      {obstacles.map((o) => (
        <Trouble key={o.detail} error={new Problem({ ...o, title: "it cannot be begun" }, o.status)} />
      ))}
      {obstacles.length === 0 && (
        <p className="mt-3 flex flex-wrap items-center gap-3">
          {p.verdict === "" || p.verdict === undefined ? (
            <>
              <button className="button primary" disabled={busy || prove.isPending} onClick={() => prove.mutate()}>
                Prove the copy first
              </button>
              <span className="text-soft">The original is not touched by that.</span>
            </>
          ) : p.verdict === "passed" ? (
            <>
              <Confirm
                label="Take over"
                title={`Put this copy in the place of ${t.cluster}?`}
                loss={p.loss}
                name={t.cluster}
                busy={busy || take.isPending}
                error={take.error}
                onConfirm={(confirm) => take.mutate({ confirm, refuseClients: refuse || undefined })}
              />
              <label className="text-soft">
                <input type="checkbox" checked={refuse} onChange={(e) => setRefuse(e.target.checked)} /> refuse clients from the beginning
              </label>
            </>
          ) : (
            <span>
              <Mark state={p.verdict} /> Only a copy that is proved takes over from here:{" "}
              <Link to="/copies/$copy" params={{ copy }}>
                read what the proof found
              </Link>
              .
            </span>
          )}
        </p>
      )}
      {prove.error && <Trouble error={prove.error} />}
    </section>
  );
}

const steps: [string, string][] = [
  ["refusing", "Clients are refused, if that is asked for; else they are cut off when the original is stopped."],
  ["opening", "The copy is opened where nobody reaches it."],
  ["bringing", "What lies on another file system is copied beside its place."],
  ["stopping", "The original is stopped, and its last WAL captured."],
  ["setting aside", "Its directories get another name."],
  ["placing", "The copy's directories get theirs."],
  ["starting", "The server is started as the original was."],
];

// Walk shows the steps, and how far they are.
function Walk({ of: begun, proved }: { of: Takeover | undefined; proved: boolean }) {
  const at = begun?.step === "in service" ? steps.length : steps.findIndex(([name]) => name === begun?.step);
  const state = (i: number) => (i < at ? "done" : i === at && !begun?.endedAt ? "catching up" : "to come");
  return (
    <section aria-label="The steps">
      <h2>The steps</h2>
      <ol className="mt-2">
        <li className="py-1">
          <Mark state={proved || begun ? "done" : "to come"}>proved</Mark>
        </li>
        {steps.map(([name, what], i) => (
          <li key={name} className="py-1" aria-current={i === at && !begun?.endedAt ? "step" : undefined}>
            <Mark state={state(i)}>{name}</Mark>
            <span className="block pl-5 text-soft">{what}</span>
          </li>
        ))}
      </ol>
    </section>
  );
}

function WayBack({ of: t }: { of: Takeover }) {
  return (
    <section aria-label="The way back" className="mt-6 border-l-4 border-velvet pl-4">
      <h2>The way back</h2>
      {t.step === "in service" ? (
        <>
          <p>
            {t.removed ? "What was set aside has been removed." : "The old directories stand under their new names."} What the original held
            can still be reached, on its own timeline:
          </p>
          <p className="mt-1">
            <code>velvet restore takeover {t.cluster} &quot;MOMENT on timeline N&quot;</code>
          </p>
          {t.keptUntil && (
            <p className="mt-1 text-soft">
              Nothing removes the old directories by itself; that is offered from <Time at={t.keptUntil} /> on.
            </p>
          )}
        </>
      ) : t.step === "as before" ? (
        <p>Nothing is left to undo.</p>
      ) : t.original.lost ? (
        <p>If a step fails, what was placed is taken away again by itself. Backups and WAL are not touched.</p>
      ) : (
        <p>
          If a step fails, or the task is cancelled before the last one, everything is put back by itself, and {t.cluster} serves as before.
        </p>
      )}
    </section>
  );
}

function Outcome({ of: t }: { of: Takeover }) {
  return (
    <section aria-label="How it went">
      {t.problem && <Trouble error={new Error(t.problem)} />}
      <Facts
        rows={[
          ["begun", t.begunAt && <Time key="b" at={t.begunAt} exact />],
          ["ended", t.endedAt && <Time key="e" at={t.endedAt} exact />],
        ]}
      />
    </section>
  );
}

function Undoes({ of: t }: { of: Takeover }) {
  const cost = t.plan!.cost;
  return (
    <section aria-label="What is undone" className="mt-6">
      <h2>
        {cost.transactions === 0
          ? "Nothing known was committed later"
          : `It undoes ${count(cost.transactions)} transaction${cost.transactions === 1 ? "" : "s"}`}
      </h2>
      <UndoneTables of={cost.tables ?? []} />
    </section>
  );
}

function Original({ of: t }: { of: Takeover }) {
  const o = t.original;
  const runs = o.lost ? "its directory is lost" : o.running ? "" : "it did not run";
  return (
    <section aria-label="The original" className="mt-6">
      <h2 className="mb-2">The original</h2>
      <Facts
        rows={[
          ["directory", <code key="d">{o.dataDirectory}</code>],
          ["runs", `${o.unit ? `by its unit ${o.unit}` : "by pg_ctl"}, as the OS user ${o.user}${runs && `; ${runs}`}`],
          [
            "connected now",
            t.plan && (t.plan.unknown ? `not known: ${t.plan.unknown}` : <Users key="c" of={t.plan.connected} what="session" />),
          ],
          [
            "standbys",
            t.plan && (t.plan.standbys ?? []).length > 0 && (
              <>
                <Users of={t.plan.standbys} what="standby" />
                <span className="text-soft">they are beyond the moment: make them anew afterwards</span>
              </>
            ),
          ],
          ["copied first", t.plan && (t.plan.brought ?? []).length > 0 && `to another file system, beside ${t.plan.brought!.join(", ")}`],
          [
            "set aside as",
            (t.aside ?? []).map((d): ReactNode => (
              <code key={d} className="block">
                {d}
              </code>
            )),
          ],
        ]}
      />
    </section>
  );
}

function Users({ of: list, what }: { of: TakeoverUsers[] | null; what: string }) {
  if (!list?.length) return <>nobody</>;
  return (
    <>
      {list.map((u) => (
        <span key={`${u.role} ${u.application} ${u.address}`} className="block">
          {count(u.sessions)} {what}
          {u.sessions !== 1 && "s"}
          {u.role && ` of ${u.role}`}
          {u.application && `, ${u.application}`}
          {u.address && `, from ${u.address}`}
        </span>
      ))}
    </>
  );
}
