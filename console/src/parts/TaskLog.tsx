import { useLines } from "../api";
import { clock } from "../format";
import { Trouble } from "./Trouble";

// TaskLog is the log of a task, growing while it runs.
export function TaskLog({ task }: { task: string }) {
  const lines = useLines(task);
  if (lines.error) return <Trouble error={lines.error} />;
  return (
    <ol className="mono py-1" aria-label="Log">
      {(lines.data ?? []).map((l) => (
        <li key={l.number} className="grid grid-cols-[6rem_1.5rem_1fr]">
          <span className="text-soft">{clock(l.at)}</span>
          <span className="text-undone font-bold" aria-label={l.level === "warning" ? "warning" : undefined}>
            {l.level === "warning" ? "▲" : ""}
          </span>
          <span className="break-words">{l.text}</span>
        </li>
      ))}
    </ol>
  );
}
