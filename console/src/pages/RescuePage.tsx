import { Link, useParams } from "@tanstack/react-router";
import { type ReactNode, useState } from "react";
import {
  type Rescue,
  type RescueConflict,
  type RescueRequest,
  scriptOf,
  useCopy,
  useRescue,
  useRescueOf,
  useRescues,
  useTasks,
} from "../api";
import { count } from "../format";
import { Bar } from "../parts/Bar";
import { Confirm } from "../parts/Confirm";
import { Mark } from "../parts/Mark";
import { Table } from "../parts/Table";
import { TaskLog } from "../parts/TaskLog";
import { Trouble, Waiting } from "../parts/Trouble";

// Wish is what the DBA has picked; also as it was typed.
type Wish = Omit<RescueRequest, "mode" | "also"> & { also?: string };

// RescuePage answers: what did the transaction just after this copy take, what stands in the way, and how does it come back?
export function RescuePage() {
  const { copy } = useParams({ from: "/frame/copies/$copy/rescue" });
  const k = useCopy(copy);
  const list = useRescues(k.data?.cluster);
  const newest = useRescueOf(list.data?.find((r) => r.copy === k.data?.name && r.tables!.length + (r.made ?? []).length > 0)?.id);
  const tasks = useTasks({ active: true, cluster: k.data?.cluster });
  const begin = useRescue(copy);
  const [wish, setWish] = useState<Wish>({});
  const [unwritten, setUnwritten] = useState<Error | null>(null);
  const [settled, setSettled] = useState<Record<string, string>>({});
  if (k.error) return <Trouble error={k.error} />;
  if (!k.data || !list.data) return <Waiting what="the copy and what was rescued from it" />;
  const last = newest.data;
  const tried = last && ["tried", "applied"].includes(last.state) ? last : undefined;
  const task = (tasks.data ?? []).find((t) => t.kind === "rescue");
  const { also, ...rest } = wish;
  const others = (also ?? "").split(/[\s,]+/).filter(Boolean);
  const notIds = others.filter((id) => !/^\d+$/.test(id));
  const all: Omit<RescueRequest, "mode"> = {
    ...rest,
    ...(others.length ? { also: others.map(Number) } : {}),
    settle: Object.entries(settled).map(([of, what]) => (of ? `${of}=${what}` : what)),
    open: true,
  };
  const busy = begin.isPending || task !== undefined || notIds.length > 0 || (k.data.state !== "paused" && k.data.state !== "open");
  const run = (mode: "plan" | "try" | "apply", confirm?: string) => begin.mutate({ ...all, mode, ...(confirm ? { confirm } : {}) });
  return (
    <>
      <p className="text-soft">
        <Link to="/clusters/$cluster" params={{ cluster: k.data.cluster }}>
          {k.data.cluster}
        </Link>{" "}
        ·{" "}
        <Link to="/copies/$copy" params={{ copy }}>
          copy {k.data.name}
        </Link>{" "}
        at <b className="text-ink">{k.data.moment}</b>
      </p>
      <h1>{headline(last)}</h1>
      {k.data.state !== "paused" && k.data.state !== "open" && (
        <p className="mt-3">
          The copy is {k.data.state}. Rows are read from it when it stands:{" "}
          <Link to="/copies/$copy" params={{ copy }}>
            see how far it is
          </Link>
          .
        </p>
      )}
      <ol className="mt-4">
        <Step n={1} title="Pick what was lost" says="Nothing picked is everything that the transaction took.">
          <Pick of={last} wish={wish} onChange={setWish} />
          {notIds.length > 0 && <p className="mt-2 text-undone">A transaction&apos;s id is a number, and {notIds.join(", ")} is none.</p>}
        </Step>
        <Step n={2} title="Compare with live" says="Only reads: what would come back, and what stands in the way.">
          <button className={`button ${last ? "" : "primary"}`} disabled={busy} onClick={() => run("plan")}>
            {last ? "Compare again" : "Compare"}
          </button>
          {last && <Compared of={last} />}
        </Step>
        {last && (
          <Step n={3} title="Settle what stands in the way" says="A row that somebody has changed since is overwritten only if you say so.">
            {last.tables!.some((t) => (t.conflicts ?? []).length > 0) ? (
              <Settle of={last} settled={settled} onChange={setSettled} />
            ) : (
              <p>Nothing stands in the way.</p>
            )}
          </Step>
        )}
        {last && (
          <Step n={4} title="Read the SQL" says="The same, for psql: with the rows.">
            {last.state === "applied" ? (
              <p>The rows are back: there is nothing left to write.</p>
            ) : (
              <button
                className="button"
                disabled={busy}
                onClick={() =>
                  scriptOf(copy, { ...all, mode: "try" }, `${k.data.name}-rescue.sql`).then(() => setUnwritten(null), setUnwritten)
                }
              >
                Download the SQL
              </button>
            )}
          </Step>
        )}
        {last && (
          <Step
            n={5}
            title="Bring the rows back"
            says="Tried first and taken back; then done, proved and committed: in one transaction, or in several of so many rows each."
          >
            <Batches wish={wish} onChange={setWish} />
            <p className="flex flex-wrap gap-3">
              <button className={`button ${tried ? "" : "primary"}`} disabled={busy} onClick={() => run("try")}>
                Try it
              </button>
              {tried?.state === "tried" && (
                <Confirm
                  label="Bring the rows back"
                  title={`Write into ${k.data.cluster}?`}
                  loss={`${count(written(tried))} rows are written into it while it goes on serving. What others did since stays.`}
                  name={k.data.cluster}
                  busy={busy}
                  error={begin.error}
                  onConfirm={(confirm) => run("apply", confirm)}
                />
              )}
            </p>
            {tried && <Proved of={tried} />}
          </Step>
        )}
      </ol>
      {(begin.error ?? unwritten) && <Trouble error={(begin.error ?? unwritten)!} />}
      {task && (
        <section aria-label="Now" className="mt-4">
          <Bar task={task} />
          <TaskLog task={task.id} />
        </section>
      )}
    </>
  );
}

const written = (r: Rescue) => (r.tables ?? []).reduce((n, t) => n + t.inserts + t.updates, 0);

function taken(r: Rescue): string {
  const rows = (r.tables ?? []).reduce((n, t) => n + t.rows, 0);
  const made = (r.made ?? []).length;
  if (rows > 0 || made === 0) return `took ${count(rows)} rows`;
  return `dropped ${made === 1 ? "one object" : `${count(made)} objects`}, and took no row`;
}

function headline(last: Rescue | undefined): string {
  switch (last?.state) {
    case "applied":
      return `${count(written(last))} rows are back, by transaction ${last.wrote}.`;
    case "partly":
      return `${count(written(last))} rows are back, and ${last.left} batches are not: the same goes on where it ended.`;
    case "tried":
      return `${count(written(last))} rows would come back. Nothing was changed yet.`;
    case "planned":
      return `Transaction ${[last.transaction, ...(last.also ?? [])].join(", with ")} ${taken(last)}.`;
  }
  return "What did the transaction just after this copy take?";
}

function Step({ n, title, says, children }: { n: number; title: string; says: string; children: ReactNode }) {
  return (
    <li className="mb-5 grid grid-cols-[2rem_1fr]">
      <span className="text-soft">{n}</span>
      <section aria-label={title}>
        <h2>{title}</h2>
        <p className="mb-2 text-soft">{says}</p>
        {children}
      </section>
    </li>
  );
}

// Pick chooses tables, and by whom they are written.
function Pick({ of: r, wish, onChange }: { of: Rescue | undefined; wish: Wish; onChange: (w: Wish) => void }) {
  const picked = wish.tables ?? [];
  const toggle = (t: string) => onChange({ ...wish, tables: picked.includes(t) ? picked.filter((one) => one !== t) : [...picked, t] });
  return (
    <>
      {(r?.tables ?? []).map((t) => (
        <label key={t.table} className="mr-4">
          <input type="checkbox" checked={picked.includes(t.table)} onChange={() => toggle(t.table)} /> {t.table}
        </label>
      ))}
      <p className="mt-2 flex flex-wrap items-end gap-4">
        <label className="text-soft">
          Other transactions, undone with it
          <input
            className="field mono mt-1"
            placeholder="none"
            value={wish.also ?? ""}
            onChange={(e) => onChange({ ...wish, also: e.target.value || undefined })}
          />
        </label>
        <label className="text-soft">
          Write as the role
          <input
            className="field mono mt-1"
            placeholder="the registered one"
            value={wish.as ?? ""}
            onChange={(e) => onChange({ ...wish, as: e.target.value })}
          />
        </label>
        <label className="text-soft">
          Its password, which is not kept
          <input
            className="field mono mt-1"
            type="password"
            autoComplete="off"
            value={wish.asPassword ?? ""}
            onChange={(e) => onChange({ ...wish, asPassword: e.target.value })}
          />
        </label>
        <label className="text-soft">
          <input
            type="checkbox"
            checked={wish.noTriggers ?? false}
            onChange={(e) => onChange({ ...wish, noTriggers: e.target.checked || undefined })}
          />{" "}
          have no trigger run
        </label>
        <label className="text-soft">
          <input
            type="checkbox"
            checked={wish.trustCode ?? false}
            onChange={(e) => onChange({ ...wish, trustCode: e.target.checked || undefined })}
          />{" "}
          let owners&apos; code run as a superuser
        </label>
      </p>
    </>
  );
}

// Batches chooses whether the rows come back at once, or in batches that can be gone on with.
function Batches({ wish, onChange }: { wish: Wish; onChange: (w: Wish) => void }) {
  const positive = (text: string) => (Number(text) > 0 ? Number(text) : undefined);
  return (
    <p className="mb-3 flex flex-wrap items-end gap-4">
      <label className="text-soft">
        Rows in one transaction
        <input
          className="field mt-1 w-36"
          type="number"
          min={1}
          placeholder="all"
          value={wish.atOnce ?? ""}
          onChange={(e) => onChange({ ...wish, atOnce: positive(e.target.value), pause: positive(e.target.value) && wish.pause })}
        />
      </label>
      {wish.atOnce && (
        <label className="text-soft">
          Seconds between two
          <input
            className="field mt-1 w-36"
            type="number"
            min={0}
            step="any"
            placeholder="0"
            value={wish.pause ?? ""}
            onChange={(e) => onChange({ ...wish, pause: positive(e.target.value) })}
          />
        </label>
      )}
    </p>
  );
}

function Compared({ of: r }: { of: Rescue }) {
  return (
    <div className="mt-3">
      <Table
        heads={[
          "Table",
          "What it did",
          { number: "Missing" },
          { number: "Overwritten" },
          { number: "Already right" },
          { number: "Changed since" },
          { number: "To write" },
        ]}
      >
        {(r.tables ?? []).map((t) => (
          <tr key={t.table}>
            <td>
              {t.table}
              {!t.key && !(r.made ?? []).includes(t.table) && (
                <span className="block text-soft">has no key: its rows are known by where they lie</span>
              )}
              {(t.notes ?? []).map((note) => (
                <span key={note} className="block text-soft">
                  {note}
                </span>
              ))}
            </td>
            <td>{t.did}</td>
            <td className="number">{count(t.missing)}</td>
            <td className="number">{count(t.overwritten)}</td>
            <td className="number">{count(t.right)}</td>
            <td className={`number ${t.unsettled > 0 ? "font-bold text-undone" : ""}`}>
              {count(t.changed + t.gone + t.orphans + t.taken)}
            </td>
            <td className="number">{count(t.inserts + t.updates)}</td>
          </tr>
        ))}
      </Table>
      <Said title="Made anew, with all that hung on them" list={r.made} />
      <Said title="Rows cannot undo" list={r.unable} />
      <Said title="As the rows are written, this runs" list={r.runs} />
    </div>
  );
}

function Said({ title, list }: { title: string; list: string[] | null }) {
  if (!list?.length) return null;
  return (
    <p className="mt-2">
      <span className="text-soft">{title}:</span> {list.join("; ")}.
    </p>
  );
}

const choices = [
  ["stop", "not said"],
  ["keep-live", "keep live"],
  ["take-old", "take old"],
];

// Settle says what becomes of rows: of all at once, of a table's, or of one.
function Settle(p: { of: Rescue; settled: Record<string, string>; onChange: (s: Record<string, string>) => void }) {
  const choice = (of: string, label: string) => (
    <select
      className="field max-w-40"
      aria-label={label}
      value={p.settled[of] ?? "stop"}
      onChange={(e) => {
        const { [of]: _, ...others } = p.settled;
        p.onChange(e.target.value === "stop" ? others : { ...others, [of]: e.target.value });
      }}
    >
      {choices.map(([value, text]) => (
        <option key={value} value={value}>
          {text}
        </option>
      ))}
    </select>
  );
  return (
    <>
      <p className="mb-2 flex items-center gap-3">All of them: {choice("", "all rows")}</p>
      <Table heads={["Row", "How it stands", "Was, and is", "What becomes of it"]}>
        {(p.of.tables ?? []).flatMap((t) =>
          (t.conflicts ?? []).slice(0, 20).map((c) => (
            <tr key={t.table + c.key + c.how}>
              <td>
                {t.table} <code>{c.key}</code>
              </td>
              <td>{c.how}</td>
              <td>
                <WasAndIs of={c} />
              </td>
              <td>{t.key ? choice(`${t.table}:${c.key}`, `${t.table} ${c.key}`) : "as all of them"}</td>
            </tr>
          )),
        )}
      </Table>
      {(p.of.tables ?? [])
        .filter((t) => (t.conflicts ?? []).length > 20)
        .map((t) => (
          <p key={t.table} className="mt-2 flex items-center gap-3">
            {t.table} has more: {choice(t.table, `all of ${t.table}`)}
          </p>
        ))}
    </>
  );
}

function WasAndIs({ of: c }: { of: RescueConflict }) {
  return (
    <>
      {(c.columns ?? []).map((d) => (
        <span key={d.name} className="block">
          {d.name}: <code>{d.old || "NULL"}</code> → <code>{d.live || "NULL"}</code>
        </span>
      ))}
    </>
  );
}

function Proved({ of: r }: { of: Rescue }) {
  return (
    <div className="mt-3">
      <Table heads={["Check", "Verdict", "What was seen"]}>
        {(r.checks ?? []).map((c) => (
          <tr key={c.name}>
            <td>{c.name}</td>
            <td>
              <Mark state={c.verdict} />
            </td>
            <td>{c.summary}</td>
          </tr>
        ))}
      </Table>
    </div>
  );
}
