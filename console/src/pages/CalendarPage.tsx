import { Link, useParams } from "@tanstack/react-router";
import { useState } from "react";
import {
  type Entry,
  type NewEntry,
  type Schedule,
  useAddEntry,
  useCalendar,
  useClusters,
  usePauseEntry,
  usePolicies,
  useRemoveEntry,
  useUpcoming,
} from "../api";
import { Confirm } from "../parts/Confirm";
import { Time } from "../parts/Time";
import { Trouble, Waiting } from "../parts/Trouble";
import { ClusterTabs } from "./ClusterTabs";

// ClusterCalendar is the calendar of one cluster.
export function ClusterCalendar() {
  const { cluster } = useParams({ from: "/frame/clusters/$cluster/calendar" });
  return <CalendarPage cluster={cluster} />;
}

// CalendarPage answers: what recurs, and when next?
export function CalendarPage({ cluster = "" }: { cluster?: string }) {
  const entries = useCalendar(cluster);
  if (entries.error) return <Trouble error={entries.error} />;
  if (!entries.data) return <Waiting what="the calendar" />;
  return (
    <>
      {cluster && <ClusterTabs cluster={cluster} />}
      <h1>{entries.data.length === 0 ? "Nothing is scheduled yet" : "Recurring work"}</h1>
      {entries.data.length > 0 && <Entries list={entries.data} />}
      <Add cluster={cluster} />
    </>
  );
}

function Entries({ list }: { list: Entry[] }) {
  const pause = usePauseEntry();
  const remove = useRemoveEntry();
  return (
    <>
      <table className="mt-3 w-full" aria-label="Entries">
        <thead>
          <tr>
            <th>Work</th>
            <th>Of</th>
            <th>When</th>
            <th>Next</th>
            <th>Begun last</th>
            <th>
              <span className="sr-only">Actions</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {list.map((e) => (
            <tr key={e.id}>
              <td>
                {e.work} {e.detail}
              </td>
              <td>{aboutOf(e)}</td>
              <td>{e.words}</td>
              <td>{e.paused ? "paused" : <Time at={e.next?.[0]?.at} none="never" />}</td>
              <td>
                {e.last?.task ? (
                  <Link to="/tasks/$task" params={{ task: e.last.task }}>
                    <Time at={e.last.at} />
                  </Link>
                ) : (
                  <Time at={e.last?.at} />
                )}{" "}
                {e.last?.problem && <span className="text-undone">▲ {e.last.problem}</span>}
              </td>
              <td className="text-right whitespace-nowrap">
                <button className="button mr-2" onClick={() => pause.mutate({ entry: e.id, paused: !e.paused })}>
                  {e.paused ? "Resume" : "Pause"}
                </button>
                <Confirm
                  label="Remove"
                  title="Take it out of the calendar?"
                  loss={`${e.work} of ${aboutOf(e)}, ${e.words}, would not be begun any more.`}
                  name={e.cluster || e.policy || "store"}
                  busy={remove.isPending}
                  error={remove.error}
                  onConfirm={(confirm) => remove.mutate({ entry: e.id, confirm })}
                />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {pause.error && <Trouble error={pause.error} />}
    </>
  );
}

// aboutOf says what an entry is about.
const aboutOf = (e: Entry) => e.cluster || (e.policy ? `policy ${e.policy} (${e.clusters} clusters)` : "the store");

const zone = Intl.DateTimeFormat().resolvedOptions().timeZone;
const weekdays = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"];

type How = "at" | "every" | "cron";
type Window = NonNullable<Schedule["quiet"]>[number];

// kinds are those of each work, the usual one first.
const kinds: Record<NewEntry["work"], string[]> = { backup: ["auto", "full", "incremental"], keep: [], audit: ["quick", "full"] };

// Add shows when a schedule would run before it is saved.
function Add({ cluster }: { cluster: string }) {
  const clusters = useClusters();
  const policies = usePolicies();
  const add = useAddEntry();
  const [of, setOf] = useState(cluster && `cluster ${cluster}`);
  const [work, setWork] = useState<NewEntry["work"]>("backup");
  const [detail, setDetail] = useState("");
  const [how, setHow] = useState<How>("at");
  const [at, setAt] = useState("02:30");
  const [on, setOn] = useState<string[]>([]);
  const [hours, setHours] = useState(6);
  const [cron, setCron] = useState("30 2 * * *");
  const [name, setName] = useState(zone);
  const [jitter, setJitter] = useState(0);
  const [quiet, setQuiet] = useState<Window[]>([]);
  const schedule: Schedule = {
    zone: name,
    ...(jitter > 0 ? { jitter } : {}),
    ...(quiet.length > 0 ? { quiet } : {}),
    ...(how === "at" ? { at, ...(on.length > 0 ? { weekdays: on } : {}) } : how === "every" ? { everyHours: hours } : { cron }),
  };
  const next = useUpcoming(schedule);
  const first = clusters.data?.[0]?.name;
  const about = of || (first && `cluster ${first}`);
  return (
    <section aria-label="Add to the calendar" className="mt-6">
      <h2>Add to the calendar</h2>
      <form
        className="mt-2 flex flex-wrap items-end gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          const [what, name] = (about ?? "").split(" ");
          add.mutate({ work, schedule, ...(detail ? { detail } : {}), ...(work === "audit" ? {} : { [what!]: name }) });
        }}
      >
        <label className="text-soft">
          work
          <select
            className="field"
            value={work}
            onChange={(e) => {
              setWork(e.target.value as NewEntry["work"]);
              setDetail("");
            }}
          >
            <option value="backup">base backup</option>
            <option value="keep">keep run</option>
            <option value="audit">audit of the store</option>
          </select>
        </label>
        {kinds[work].length > 0 && (
          <label className="text-soft">
            kind
            <select className="field" value={detail || kinds[work][0]} onChange={(e) => setDetail(e.target.value)}>
              {kinds[work].map((k) => (
                <option key={k}>{k}</option>
              ))}
            </select>
          </label>
        )}
        {work !== "audit" && !cluster && (
          <label className="text-soft">
            of
            <select className="field" value={of} onChange={(e) => setOf(e.target.value)}>
              {(clusters.data ?? []).map((c) => (
                <option key={c.id} value={`cluster ${c.name}`}>
                  {c.name}
                </option>
              ))}
              {(policies.data ?? []).map((p) => (
                <option key={p.name} value={`policy ${p.name}`}>
                  policy {p.name} ({(p.clusters ?? []).length} clusters)
                </option>
              ))}
            </select>
          </label>
        )}
        <label className="text-soft">
          when
          <select className="field" value={how} onChange={(e) => setHow(e.target.value as How)}>
            <option value="at">at a time of day</option>
            <option value="every">every so many hours</option>
            <option value="cron">by a cron expression</option>
          </select>
        </label>
        {how === "at" && (
          <label className="text-soft">
            time of day
            <input className="field mono" type="time" value={at} onChange={(e) => setAt(e.target.value)} />
          </label>
        )}
        {how === "every" && (
          <label className="text-soft">
            hours
            <input
              className="field"
              type="number"
              min={1}
              style={{ width: "6rem" }}
              value={hours}
              onChange={(e) => setHours(Number(e.target.value))}
            />
          </label>
        )}
        {how === "cron" && (
          <label className="text-soft">
            minute, hour, day, month, weekday
            <input className="field mono" value={cron} onChange={(e) => setCron(e.target.value)} />
          </label>
        )}
        <label className="text-soft">
          time zone
          <input className="field" value={name} onChange={(e) => setName(e.target.value)} />
        </label>
        <label className="text-soft">
          spread over minutes
          <input
            className="field"
            type="number"
            min={0}
            max={1440}
            style={{ width: "7rem" }}
            value={jitter}
            onChange={(e) => setJitter(Number(e.target.value))}
          />
        </label>
        {how === "at" && <Weekdays of="" on={on} onChange={setOn} />}
        <QuietWindows list={quiet} onChange={setQuiet} />
        <button className="button primary" disabled={add.isPending || !!next.error || (work !== "audit" && !about)}>
          Save
        </button>
      </form>
      {add.error && <Trouble error={add.error} />}
      {next.error ? (
        <Trouble error={next.error} />
      ) : (
        next.data && (
          <table className="mt-3" aria-label="The next ten runs">
            <thead>
              <tr>
                <th>Next runs, {next.data.words}</th>
                <th>Here</th>
                <th>Note</th>
              </tr>
            </thead>
            <tbody>
              {(next.data.runs ?? []).map((r) => (
                <tr key={r.at}>
                  <td className="mono">
                    {r.at
                      .replace("T", " ")
                      .replace("Z", "+00:00")
                      .replace(/(\d\d:\d\d:\d\d)(\.\d+)?/, "$1 ")}
                  </td>
                  <td>
                    <Time at={new Date(r.at).toISOString()} />
                  </td>
                  <td className="text-brass">{r.note}</td>
                </tr>
              ))}
            </tbody>
          </table>
        )
      )}
    </section>
  );
}

// Weekdays are chosen days; none chosen is every day.
function Weekdays({ of, on, onChange }: { of: string; on: string[]; onChange: (on: string[]) => void }) {
  return (
    <fieldset className="flex gap-2 text-soft">
      <legend className="sr-only">weekdays{of}</legend>
      {weekdays.map((d) => (
        <label key={d} className="flex flex-col items-center">
          {d}
          <input type="checkbox" checked={on.length === 0 || on.includes(d)} onChange={() => onChange(toggled(on, d))} />
        </label>
      ))}
    </fieldset>
  );
}

// QuietWindows are parts of the day in which nothing begins.
function QuietWindows({ list, onChange }: { list: Window[]; onChange: (list: Window[]) => void }) {
  const change = (i: number, w: Partial<Window>) => onChange(list.map((old, n) => (n === i ? { ...old, ...w } : old)));
  return (
    <>
      {list.map((w, i) => (
        <div key={i} className="flex items-end gap-3">
          <label className="text-soft">
            quiet from
            <input className="field mono" type="time" value={w.from} onChange={(e) => change(i, { from: e.target.value })} />
          </label>
          <label className="text-soft">
            to
            <input className="field mono" type="time" value={w.to} onChange={(e) => change(i, { to: e.target.value })} />
          </label>
          <Weekdays of={` of quiet window ${i + 1}`} on={w.weekdays ?? []} onChange={(weekdays) => change(i, { weekdays })} />
          <button type="button" className="button" onClick={() => onChange(list.filter((_, n) => n !== i))}>
            Remove window
          </button>
        </div>
      ))}
      <button
        type="button"
        className="button"
        onClick={() => onChange([...list, { from: "08:00", to: "18:00", weekdays: ["mon", "tue", "wed", "thu", "fri"] }])}
      >
        Add a quiet window
      </button>
    </>
  );
}

// toggled takes a weekday out of those chosen or puts it in; all are chosen by none.
function toggled(on: string[], day: string): string[] {
  const all = on.length === 0 ? weekdays : on;
  const next = all.includes(day) ? all.filter((d) => d !== day) : [...all, day];
  return next.length === weekdays.length ? [] : weekdays.filter((d) => next.includes(d));
}
