import { useState } from "react";
import { type Task, useTasks } from "../api";
import { Bar, amount } from "../parts/Bar";
import { TaskLog } from "../parts/TaskLog";

// TaskStrip shows what is running, along the bottom of every page, and opens into its log.
export function TaskStrip() {
  const tasks = useTasks({ active: true });
  const [open, setOpen] = useState<string>();
  const running = tasks.data ?? [];
  if (running.length === 0 && !open) return null;
  return (
    <section aria-label="Running tasks" className="sticky bottom-0 border-t border-line bg-raised">
      {running.map((t) => (
        <Row key={t.id} task={t} open={open === t.id} toggle={() => setOpen(open === t.id ? undefined : t.id)} />
      ))}
      {open && (
        <div className="max-h-64 overflow-auto border-t border-line px-4 py-2">
          <div className="flex justify-between">
            <h2>Log of the task</h2>
            <button className="button" onClick={() => setOpen(undefined)}>
              Close
            </button>
          </div>
          <TaskLog task={open} />
        </div>
      )}
    </section>
  );
}

function Row({ task, open, toggle }: { task: Task; open: boolean; toggle: () => void }) {
  return (
    <button
      className="grid w-full cursor-pointer grid-cols-[14rem_10rem_1fr_14rem] items-center gap-4 px-4 py-1.5 text-left max-md:grid-cols-1"
      aria-expanded={open}
      onClick={toggle}
    >
      <span className="font-bold">
        {open ? "▾" : "▸"} {task.kind}, {task.cluster}
      </span>
      <Bar task={task} />
      <span className="truncate text-soft">{task.note ?? task.state}</span>
      <span className="text-right text-soft">{amount(task)}</span>
    </button>
  );
}
