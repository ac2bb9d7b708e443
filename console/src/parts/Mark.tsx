// Mark is a state with a shape of its own, so that it can be told without colour.
const marks: Record<string, { shape: string; tone: string }> = {
  streaming: { shape: "●", tone: "text-kept" },
  starting: { shape: "◌", tone: "text-soft" },
  "catching up": { shape: "»", tone: "text-brass" },
  "waiting for the store": { shape: "▲", tone: "text-brass" },
  retrying: { shape: "▲", tone: "text-undone" },
  stopped: { shape: "■", tone: "text-undone" },
  failed: { shape: "✕", tone: "text-undone" },
  down: { shape: "✕", tone: "text-undone" },
  "could not run": { shape: "?", tone: "text-brass" },
  passed: { shape: "✓", tone: "text-kept" },
  done: { shape: "✓", tone: "text-kept" },
  paused: { shape: "‖", tone: "text-brass" },
  open: { shape: "○", tone: "text-kept" },
  cancelled: { shape: "–", tone: "text-soft" },
  discarded: { shape: "–", tone: "text-soft" },
};

export function Mark({ state, children }: { state: string; children?: React.ReactNode }) {
  const m = marks[state] ?? { shape: "◌", tone: "text-soft" };
  return (
    <span className="whitespace-nowrap">
      <span aria-hidden className={`${m.tone} inline-block w-5 font-bold`}>
        {m.shape}
      </span>
      {children ?? state}
    </span>
  );
}
