import { scaleTime } from "d3-scale";
import { type PointerEvent, useEffect, useRef, useState } from "react";
import type { Deck, Rate, Transaction } from "../api";
import { count, when } from "../format";
import { height, pan, type Window, zoom } from "./view";

// Where the lanes lie, in pixels from the top.
const flags = 4;
const band = 24;
const bandHeight = 22;
const middle = 106; // growth stands on it, deletes hang from it
const reachUp = 46;
const reachDown = 40;
const axis = 156;
const total = 174;
const margin = 8; // at both sides, so that what stands at an end is whole

// useWidth measures an element.
function useWidth() {
  const ref = useRef<HTMLDivElement>(null);
  const [width, setWidth] = useState(900);
  useEffect(() => {
    const e = ref.current;
    if (!e) return;
    const seen = new ResizeObserver(() => setWidth(Math.max(200, e.clientWidth)));
    seen.observe(e);
    return () => seen.disconnect();
  }, []);
  return [ref, width] as const;
}

// Hatches are the patterns by which undone and missing can be told without colour.
function Hatches() {
  return (
    <defs>
      <pattern id="undone" width="7" height="7" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
        <rect width="7" height="7" fill="var(--ground)" />
        <rect width="2.5" height="7" fill="var(--undone)" />
      </pattern>
      <pattern id="deleted" width="4" height="4" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
        <rect width="4" height="4" fill="var(--undone)" />
        <rect width="1" height="4" fill="var(--ground)" />
      </pattern>
      <pattern id="hole" width="6" height="6" patternUnits="userSpaceOnUse">
        <path d="M0 0 L6 6 M6 0 L0 6" stroke="var(--hole)" strokeWidth="1.2" />
      </pattern>
    </defs>
  );
}

type Place = { deck: Deck; x: (t: number) => number; width: number };

// Band is the reach: left of the playhead kept, right of it undone, with bases as
// notches and holes cross-hatched.
function Band({ deck, x, width, head }: Place & { head?: number }) {
  return (
    <g>
      {(deck.reach ?? []).map((s) => {
        const from = x(Date.parse(s.fromTime));
        const to = x(Date.parse(s.toTime));
        const split = head === undefined ? to : Math.min(to, Math.max(from, head));
        return (
          <g key={`${s.timeline}-${s.from}`}>
            <title>{`timeline ${s.timeline}: ${when(s.fromTime)} to ${when(s.toTime)}`}</title>
            <rect x={from} width={Math.max(0, split - from)} y={band} height={bandHeight} fill="var(--velvet)" opacity="0.85" />
            <rect x={split} width={Math.max(0, to - split)} y={band} height={bandHeight} fill="url(#undone)" />
          </g>
        );
      })}
      {gaps(deck).map((g) => (
        <rect
          key={g.from}
          x={x(g.from)}
          width={Math.max(2, x(g.to) - x(g.from))}
          y={band}
          height={bandHeight}
          fill="url(#hole)"
          stroke="var(--hole)"
        >
          <title>{g.why}</title>
        </rect>
      ))}
      {(deck.bases ?? []).map((b) => (
        <path key={b.name} d={`M${x(Date.parse(b.time)) - 5} ${band} h10 l-5 9 Z`} fill="var(--ground)" stroke="var(--ink)">
          <title>{`base ${b.name}, ended ${when(b.time)}`}</title>
        </path>
      ))}
      <line x1="0" x2={width} y1={band + bandHeight + 4} y2={band + bandHeight + 4} stroke="var(--line)" />
    </g>
  );
}

// gaps are the spans of time between two spans of the reach.
function gaps(deck: Deck): { from: number; to: number; why: string }[] {
  const spans = (deck.reach ?? []).map((s) => ({ from: Date.parse(s.fromTime), to: Date.parse(s.toTime) })).sort((a, b) => a.from - b.from);
  const holes = (deck.holes ?? []).map((h) => `WAL from ${h.from} to ${h.to} is missing: ${h.cause}`).join("; ");
  return spans.slice(1).flatMap((s, i) => {
    const before = Math.max(...spans.slice(0, i + 1).map((p) => p.to));
    return s.from > before ? [{ from: before, to: s.from, why: holes || "no moment in here can be reached" }] : [];
  });
}

// Rates are rows changed: growth upwards, deletes downwards.
function Rates({ deck, x, width }: Place) {
  const rates = deck.rates ?? [];
  const greatest = Math.max(1, ...rates.map((r) => Math.max(r.inserted + r.updated, r.deleted)));
  const step = rates.length > 1 ? Date.parse(rates[1]!.from) - Date.parse(rates[0]!.from) : 1;
  return (
    <g>
      {rates.map((r) => {
        const from = Date.parse(r.from);
        const left = x(from);
        const wide = Math.max(1, x(from + step) - left - 0.5);
        const up = height(r.inserted + r.updated, greatest) * reachUp;
        const inserted = (r.inserted + r.updated > 0 ? r.inserted / (r.inserted + r.updated) : 0) * up;
        const down = height(r.deleted, greatest) * reachDown;
        return (
          <g key={r.from}>
            <title>{words(r)}</title>
            <rect x={left} width={wide} y={middle - inserted} height={inserted} fill="var(--kept)" />
            <rect x={left} width={wide} y={middle - up} height={up - inserted} fill="var(--hole)" />
            <rect x={left} width={wide} y={middle} height={down} fill="url(#deleted)" />
            {r.losses > 0 && (
              <rect x={left} width={Math.max(wide, 3)} y={middle} height={reachDown} fill="none" stroke="var(--undone)" strokeWidth="1.5" />
            )}
          </g>
        );
      })}
      <line x1="0" x2={width} y1={middle} y2={middle} stroke="var(--line)" />
      <text x="2" y={middle - reachUp + 2} className="lane">{`up to ${count(greatest)} rows (log)`}</text>
    </g>
  );
}

function words(r: Rate): string {
  const list = [
    `${when(r.from)}: ${count(r.transactions)} transactions`,
    `${count(r.inserted)} rows inserted, ${count(r.updated)} updated, ${count(r.deleted)} deleted`,
  ];
  if (r.losses > 0) list.push(`${count(r.losses)} tables dropped or truncated`);
  return list.join("; ");
}

// Flags are restore points and, pinned, incidents.
function Flags({ deck, x, onMoment }: Place & { onMoment: (m: string) => void }) {
  return (
    <g>
      {(deck.restorePoints ?? []).map((m) => (
        <g key={m.lsn} className="cursor-pointer" onClick={() => onMoment(`lsn ${m.lsn}`)}>
          <title>{`restore point ${m.name}, ${when(m.time)}`}</title>
          <path d={`M${x(Date.parse(m.time))} ${band} v-20 h11 l-3 4 l3 4 h-10`} fill="var(--brass)" stroke="var(--brass)" />
        </g>
      ))}
      {(deck.incidents ?? []).map((i) => (
        <g key={i.lsn} className="cursor-pointer" onClick={() => onMoment(`before tx ${i.xid}`)}>
          <title>{`incident, tx ${i.xid}, ${when(i.time, true)}: ${(i.reasons ?? []).join("; ")}`}</title>
          <path d={`M${x(Date.parse(i.time)) - 6} ${flags + 12} l6 -12 l6 12 Z`} fill="var(--undone)" opacity={i.settled ? 0.4 : 1} />
          <line
            x1={x(Date.parse(i.time))}
            x2={x(Date.parse(i.time))}
            y1={flags + 12}
            y2={middle + reachDown}
            stroke="var(--undone)"
            strokeDasharray="2 3"
          />
        </g>
      ))}
    </g>
  );
}

// Found are transactions that were looked for.
function Found({ list, x, onMoment }: { list: Transaction[]; x: (t: number) => number; onMoment: (m: string) => void }) {
  return list.map((t) => (
    <path
      key={t.lsn}
      className="cursor-pointer"
      d={`M${x(Date.parse(t.time))} ${middle - 5} l5 5 l-5 5 l-5 -5 Z`}
      fill="var(--brass)"
      stroke="var(--ground)"
      onClick={() => onMoment(`before tx ${t.xid}`)}
    >
      <title>{`found: tx ${t.xid}, ${when(t.time, true)}`}</title>
    </path>
  ));
}

// Lanes draws the history over one axis of time, with the playhead.
export function Lanes(p: {
  deck: Deck;
  found: Transaction[];
  window: Window;
  all: Window;
  head?: number;
  label: string;
  onWindow: (w: Window) => void;
  onMoment: (m: string) => void;
}) {
  const [ref, width] = useWidth();
  const drag = useRef<{ x: number; window: Window; moved: boolean } | null>(null);
  const scale = scaleTime([new Date(p.window.from), new Date(p.window.to)], [margin, width - margin]);
  const x = (t: number) => scale(t);
  const head = p.head === undefined ? undefined : x(p.head);
  const timeAt = (e: { clientX: number }) => scale.invert(e.clientX - (ref.current?.getBoundingClientRect().left ?? 0)).getTime();
  const { window: seen, all, onWindow } = p;
  useEffect(() => {
    const e = ref.current;
    if (!e) return;
    const wheel = (w: WheelEvent) => {
      w.preventDefault();
      const at = seen.from + ((w.clientX - e.getBoundingClientRect().left - margin) / (width - 2 * margin)) * (seen.to - seen.from);
      onWindow(Math.abs(w.deltaX) > Math.abs(w.deltaY) ? pan(seen, w.deltaX / width, all) : zoom(seen, at, w.deltaY > 0 ? 1.25 : 0.8, all));
    };
    e.addEventListener("wheel", wheel, { passive: false }); // React's own would be passive
    return () => e.removeEventListener("wheel", wheel);
  }, [ref, seen, all, onWindow, width]);
  const move = (e: PointerEvent) => {
    const d = drag.current;
    if (!d) return;
    const by = e.clientX - d.x;
    d.moved ||= Math.abs(by) > 3;
    if (d.moved) onWindow(pan(d.window, -by / width, all));
  };
  const up = (e: PointerEvent) => {
    const d = drag.current;
    drag.current = null;
    if (d && !d.moved && !(e.target instanceof SVGElement && e.target.closest(".cursor-pointer")))
      p.onMoment(new Date(timeAt(e)).toISOString());
  };
  const place = { deck: p.deck, x, width };
  return (
    <div ref={ref} className="relative mt-2 select-none overflow-hidden" style={{ height: total }}>
      <svg
        role="img"
        aria-label={p.label}
        width={width}
        height={total}
        className="block cursor-crosshair touch-none"
        onPointerDown={(e) => (drag.current = { x: e.clientX, window: seen, moved: false })}
        onPointerMove={move}
        onPointerUp={up}
        onPointerLeave={() => (drag.current = null)}
      >
        <Hatches />
        {head !== undefined && head < width && (
          <rect
            x={Math.max(0, head)}
            width={width - Math.max(0, head)}
            y={band + bandHeight + 5}
            height={axis - band - bandHeight - 8}
            fill="var(--undone)"
            opacity="0.07"
          />
        )}
        <Rates {...place} />
        <Band {...place} head={head} />
        <Flags {...place} onMoment={p.onMoment} />
        <Found list={p.found} x={x} onMoment={p.onMoment} />
        <g>
          <line x1="0" x2={width} y1={axis - 4} y2={axis - 4} stroke="var(--line)" />
          {scale.ticks(Math.max(2, Math.floor(width / 110))).map((t) => (
            <g key={t.getTime()}>
              <line x1={x(t.getTime())} x2={x(t.getTime())} y1={axis - 4} y2={axis} stroke="var(--ink-soft)" />
              <text x={x(t.getTime())} y={axis + 11} textAnchor={edge(x(t.getTime()), width)} className="lane">
                {tick(t, p.window)}
              </text>
            </g>
          ))}
        </g>
        {head !== undefined && head >= -2 && head <= width + 2 && <Playhead at={head} width={width} />}
      </svg>
    </div>
  );
}

function Playhead({ at, width }: { at: number; width: number }) {
  return (
    <g pointerEvents="none">
      <line x1={at} x2={at} y1="2" y2={axis} stroke="var(--brass)" strokeWidth="2.5" />
      {at > 60 && (
        <text x={at - 12} y={band - 8} textAnchor="end" className="lane" style={{ fill: "var(--kept)" }}>
          kept ◂
        </text>
      )}
      {at < width - 70 && (
        <text x={at + 12} y={band - 8} className="lane" style={{ fill: "var(--undone)" }}>
          ▸ undone
        </text>
      )}
    </g>
  );
}

// edge is how what is written below a place is aligned, so that at the ends it is whole.
const edge = (at: number, width: number) => (at < 30 ? "start" : at > width - 30 ? "end" : "middle");

const pad = (n: number, width = 2) => String(n).padStart(width, "0");

// tick writes a time as finely as the window needs.
function tick(t: Date, w: Window): string {
  const span = w.to - w.from;
  const clock = `${pad(t.getHours())}:${pad(t.getMinutes())}`;
  if (span > 3 * 86_400_000) return `${pad(t.getMonth() + 1)}-${pad(t.getDate())} ${clock}`;
  if (span > 600_000) return clock;
  if (span > 10_000) return `${clock}:${pad(t.getSeconds())}`;
  return `${clock}:${pad(t.getSeconds())}.${pad(t.getMilliseconds(), 3)}`;
}
