import { Link, useNavigate, useParams, useSearch } from "@tanstack/react-router";
import { Problem, type Task, type TaskFilter, useCancel, useClusters, useRetry, useTask, useTasks } from "../api";
import { lasted, size } from "../format";
import { Bar, amount } from "../parts/Bar";
import { Facts } from "../parts/Facts";
import { Mark } from "../parts/Mark";
import { TaskLog } from "../parts/TaskLog";
import { Time } from "../parts/Time";
import { Trouble, Waiting } from "../parts/Trouble";
import { Table } from "../parts/Table";
import { Id } from "../parts/Id";

const states = ["waiting", "running", "done", "failed", "cancelled"] as const;
const kinds = [
  "backup",
  "keep run",
  "side copy",
  "step copy",
  "open copy",
  "discard copy",
  "proof",
  "drop backup",
  "audit",
  "rebuild",
  "second store",
  "rehearsal",
  "takeover",
  "remove what was set aside",
];

// TaskList answers: what was done, and what is being done?
export function TaskList() {
  const filter = useSearch({ from: "/frame/tasks" });
  const navigate = useNavigate();
  const tasks = useTasks(filter);
  const clusters = useClusters();
  const go = (search: TaskFilter) => void navigate({ to: "/tasks", search: { ...filter, ...search }, replace: true });
  if (tasks.error) return <Trouble error={tasks.error} />;
  if (!tasks.data) return <Waiting what="the tasks" />;
  return (
    <>
      <header className="flex items-baseline justify-between">
        <h1>Tasks</h1>
        <Link to="/reports">base backups over time</Link>
      </header>
      <form className="my-3 flex gap-4">
        <Choice
          label="cluster"
          value={filter.cluster}
          of={(clusters.data ?? []).map((c) => c.name)}
          onChoose={(cluster) => go({ cluster })}
        />
        <Choice label="kind" value={filter.kind} of={kinds} onChoose={(kind) => go({ kind })} />
        <Choice label="state" value={filter.state} of={states} onChoose={(state) => go({ state: state as TaskFilter["state"] })} />
      </form>
      <Table heads={["Task", "Kind", "Cluster", "State", "Begun", { number: "Took" }, "What"]}>
        {tasks.data.map((t) => (
          <tr key={t.id}>
            <td>
              <Link to="/tasks/$task" params={{ task: t.id }} className="mono">
                <Id of={t.id} />
              </Link>
            </td>
            <td className="whitespace-nowrap">{t.kind}</td>
            <td>{t.cluster}</td>
            <td>
              <Mark state={t.state} />
            </td>
            <td>
              <Time at={t.createdAt} />
            </td>
            <td className="number">{t.seconds > 0 && lasted(t.seconds)}</td>
            <td>{what(t)}</td>
          </tr>
        ))}
      </Table>
      {tasks.data.length === 0 && (
        <p className="text-soft py-3">{Object.keys(filter).length > 0 ? "No task fits." : "Nothing has been done yet."}</p>
      )}
    </>
  );
}

function Choice({ label, value, of, onChoose }: { label: string; value?: string; of: readonly string[]; onChoose: (v?: string) => void }) {
  return (
    <label className="text-soft">
      {label}
      <select className="field" value={value ?? ""} onChange={(e) => onChoose(e.target.value || undefined)}>
        <option value="">any</option>
        {of.map((o) => (
          <option key={o}>{o}</option>
        ))}
      </select>
    </label>
  );
}

// pace says how fast a running task is and how long it may still take.
function pace(t: Task): string {
  const parts = [];
  if (t.rate > 0 && t.unit === "bytes") parts.push(`${size(Math.round(t.rate))}/s`);
  if (t.left !== undefined) parts.push(`some ${lasted(t.left)} left`);
  return parts.join(", ");
}

// what says what a task is doing, or what came of it.
function what(t: Task): string {
  if (t.problem) return t.problem.detail ?? t.problem.title;
  if (!t.finishedAt) return [amount(t), t.note, pace(t)].filter(Boolean).join(", ");
  const o = t.outcome ?? {};
  if (typeof o.verdict === "string") return `verdict: ${o.verdict}`;
  if (typeof o.bytesStored === "number") return `${size(o.bytesStored)} stored`;
  if (typeof o.port === "number") return `on port ${o.port}`;
  return "";
}

// TaskPage is one task with its log.
export function TaskPage() {
  const { task: id } = useParams({ from: "/frame/tasks/$task" });
  const task = useTask(id);
  const cancel = useCancel(id);
  const retry = useRetry();
  const navigate = useNavigate();
  if (task.error) return <Trouble error={task.error} />;
  if (!task.data) return <Waiting what="the task" />;
  const t = task.data;
  const ended = t.finishedAt !== undefined;
  return (
    <>
      <header className="flex items-baseline justify-between">
        <h1>
          <Mark state={t.state}>
            {t.kind} of {t.cluster}: {t.state}
          </Mark>
        </h1>
        {!ended && (
          <button className="button destructive" disabled={cancel.isPending} onClick={() => cancel.mutate()}>
            Cancel: remove what it has made
          </button>
        )}
        {(t.state === "failed" || t.state === "cancelled") && (
          <button
            className="button"
            disabled={retry.isPending}
            onClick={() => retry.mutate(t.id, { onSuccess: (again) => void navigate({ to: "/tasks/$task", params: { task: again.id } }) })}
          >
            Do it again
          </button>
        )}
      </header>
      {(cancel.error ?? retry.error) && <Trouble error={(cancel.error ?? retry.error)!} />}
      {t.problem && <Trouble error={new Problem(t.problem, t.problem.status)} />}
      {!ended && (
        <div className="my-3">
          <Bar task={t} />
          <p className="mt-1">
            {t.note} <span className="text-soft">{[amount(t), pace(t)].filter(Boolean).join(", ")}</span>
          </p>
        </div>
      )}
      <div className="my-4">
        <Facts
          rows={[
            ["task", <code key="i">{t.id}</code>],
            ["about", <code key="s">{t.subject}</code>],
            ["begun", <Time key="b" at={t.createdAt} />],
            ["ended", <Time key="e" at={t.finishedAt} />],
            ["took", t.seconds > 0 && lasted(t.seconds)],
          ]}
        />
      </div>
      <h2>Log</h2>
      <TaskLog task={id} />
    </>
  );
}
