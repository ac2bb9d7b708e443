import type { Task } from "../api";
import { count, size } from "../format";

// amount says how far a task is, in words.
export function amount(t: Task): string {
  if (t.unit === "bytes" && t.total > 0) return `${size(t.done)} of ${size(t.total)}`;
  if (t.total > 0) return `${count(t.done)} of ${count(t.total)} ${t.unit}`;
  if (t.done > 0) return `${count(t.done)} ${t.unit}`;
  return "";
}

// Bar is a task's progress; without a known end it is only the words.
export function Bar({ task }: { task: Task }) {
  const part = task.total > 0 ? Math.min(1, task.done / task.total) : undefined;
  return (
    <div
      role="progressbar"
      aria-label={`${task.kind}: ${task.note ?? ""}`}
      aria-valuemin={0}
      aria-valuemax={100}
      aria-valuenow={part === undefined ? undefined : Math.round(part * 100)}
      className="h-1.5 w-full bg-line"
    >
      <div className="h-full bg-velvet transition-[width] duration-300" style={{ width: `${(part ?? 0) * 100}%` }} />
    </div>
  );
}
