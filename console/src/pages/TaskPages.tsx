import { Link, useParams } from "@tanstack/react-router";
import { Problem, type Task, useCancel, useTask, useTasks } from "../api";
import { size } from "../format";
import { Bar, amount } from "../parts/Bar";
import { Facts } from "../parts/Facts";
import { Mark } from "../parts/Mark";
import { TaskLog } from "../parts/TaskLog";
import { Time } from "../parts/Time";
import { Trouble, Waiting } from "../parts/Trouble";

// TaskList answers: what was done, and what is being done?
export function TaskList() {
  const tasks = useTasks(false);
  if (tasks.error) return <Trouble error={tasks.error} />;
  if (!tasks.data) return <Waiting what="the tasks" />;
  return (
    <>
      <h1>Tasks</h1>
      <table className="mt-4 w-full">
        <thead>
          <tr>
            <th>Task</th>
            <th>Kind</th>
            <th>Cluster</th>
            <th>State</th>
            <th>Begun</th>
            <th>Ended</th>
            <th>What</th>
          </tr>
        </thead>
        <tbody>
          {tasks.data.map((t) => (
            <tr key={t.id}>
              <td>
                <Link to="/tasks/$task" params={{ task: t.id }} className="mono">
                  {t.id}
                </Link>
              </td>
              <td>{t.kind}</td>
              <td>{t.cluster}</td>
              <td>
                <Mark state={t.state} />
              </td>
              <td>
                <Time at={t.createdAt} />
              </td>
              <td>
                <Time at={t.finishedAt} />
              </td>
              <td>{what(t)}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {tasks.data.length === 0 && <p className="text-soft py-3">Nothing has been done yet.</p>}
    </>
  );
}

// what says what a task is doing, or what came of it.
function what(t: Task): string {
  if (t.problem) return t.problem.detail ?? t.problem.title;
  if (!t.finishedAt) return `${amount(t)} ${t.note ?? ""}`;
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
      </header>
      {cancel.error && <Trouble error={cancel.error} />}
      {t.problem && <Trouble error={new Problem(t.problem, t.problem.status)} />}
      {!ended && (
        <div className="my-3">
          <Bar task={t} />
          <p className="mt-1">
            {t.note} <span className="text-soft">{amount(t)}</span>
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
          ]}
        />
      </div>
      <h2>Log</h2>
      <TaskLog task={id} />
    </>
  );
}
