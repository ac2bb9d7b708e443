import { type PointerEvent, useRef } from "react";
import type { Cluster } from "../api";
import { when } from "../format";
import { type Window, within } from "./view";

// Overview is the whole reach as a strip, with the visible part as a handle.
export function Overview({
  cluster,
  all,
  window: w,
  head,
  onWindow,
}: {
  cluster: Cluster;
  all: Window;
  window: Window;
  head?: number;
  onWindow: (w: Window) => void;
}) {
  const ref = useRef<HTMLDivElement>(null);
  const share = (t: number) => `${(Math.min(1, Math.max(0, (t - all.from) / (all.to - all.from))) * 100).toFixed(3)}%`;
  const width = w.to - w.from;
  const move = (e: PointerEvent) => {
    const box = ref.current?.getBoundingClientRect();
    if (!box || e.buttons === 0) return;
    const at = all.from + ((e.clientX - box.left) / box.width) * (all.to - all.from);
    onWindow(within({ from: at - width / 2, to: at + width / 2 }, all));
  };
  const iso = (t: number) => when(new Date(t).toISOString());
  return (
    <div className="mt-1 flex items-center gap-3 text-soft">
      <span className="whitespace-nowrap">{iso(all.from)}</span>
      <div
        ref={ref}
        className="relative h-3 flex-1 cursor-ew-resize touch-none border-b border-line"
        onPointerDown={move}
        onPointerMove={move}
        aria-hidden
      >
        {(cluster.reach ?? []).map((s) => (
          <span
            key={s.from}
            className="absolute top-1 h-1 bg-velvet"
            style={{ left: share(Date.parse(s.fromTime)), right: `calc(100% - ${share(Date.parse(s.toTime))})` }}
          />
        ))}
        <span
          className="absolute top-0 h-3 border border-ink-soft bg-soft/20"
          style={{ left: share(w.from), right: `calc(100% - ${share(w.to)})` }}
        />
        {head !== undefined && <span className="absolute top-0 h-3 w-[2px] bg-brass" style={{ left: share(head) }} />}
      </div>
      <span className="whitespace-nowrap">{iso(all.to)}</span>
    </div>
  );
}
