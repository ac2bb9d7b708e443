import { useNavigate } from "@tanstack/react-router";
import { useCallback, useEffect, useRef, useState } from "react";
import { type Cluster, type MomentAnswer, useDeck, useMakeCopy, useMoment } from "../api";
import { when } from "../format";
import { Trouble, Waiting } from "../parts/Trouble";
import { Around } from "./Around";
import { Cost } from "./Cost";
import { any, Find, Found, useFound, type Wanted } from "./Find";
import { Keys } from "./Keys";
import { Lanes } from "./Lanes";
import { MomentField } from "./MomentField";
import { Overview } from "./Overview";
import { showing, type Window, within, zoom } from "./view";

// reachOf is all of a cluster's history that can be reached.
function reachOf(spans: { fromTime: string; toTime: string }[]): Window {
  const from = Math.min(...spans.map((s) => Date.parse(s.fromTime)));
  const to = Math.max(...spans.map((s) => Date.parse(s.toTime)));
  return { from, to: Math.max(to, from + 1000) };
}

// rest is how long a window must stand still before its history is asked for.
const rest = 150;

// useRested gives a window when it has come to rest. Until then the lanes stretch what
// was asked for last.
function useRested(w: Window | undefined): Window | undefined {
  const [rested, setRested] = useState(w);
  useEffect(() => {
    const timer = setTimeout(() => setRested(w), rest);
    return () => clearTimeout(timer);
  }, [w?.from, w?.to]);
  return rested;
}

// headOf is where on the axis of time a moment lies.
function headOf(a: MomentAnswer | undefined, all: Window): number | undefined {
  if (!a) return undefined;
  const at = a.boundary.firstOut?.time ?? (a.moment === "latest" ? undefined : a.boundary.lastIn?.time);
  return at ? Date.parse(at) : all.to;
}

// RewindDeck answers: what happened here, and what if I went back to just before it?
export function RewindDeck(p: {
  cluster: Cluster;
  moment: string;
  window?: Window;
  onPlace: (moment: string, window?: Window) => void;
  wanted: Wanted;
  onWanted: (w: Wanted) => void;
}) {
  const answer = useMoment(p.cluster.name, p.moment || "latest");
  const deck = useDeck(p.cluster.name, useRested(p.window));
  const found = useFound(p.cluster.name, p.wanted, useRested(p.window));
  const all = reachOf(deck.data?.reach?.length ? deck.data.reach : (p.cluster.reach ?? []));
  const seen = p.window ? within(p.window, all) : all;
  const make = useMakeCopy(p.cluster.name);
  const navigate = useNavigate();
  const [help, setHelp] = useState(false);
  const head = headOf(answer.data, all);
  const { onPlace, window: chosen, moment } = p;
  const onMoment = useCallback((m: string) => onPlace(m, chosen), [onPlace, chosen]);
  const onWindow = useCallback((w: Window) => onPlace(moment, w), [onPlace, moment]);
  // The playhead stays in sight when it is moved by the keys or the field.
  const last = useRef(head);
  useEffect(() => {
    if (head === last.current || head === undefined) return;
    last.current = head;
    const w = showing(seen, head, all);
    if (chosen && w.from !== seen.from) onWindow(w);
  });
  useKeys({
    all,
    seen,
    head,
    answer: answer.data,
    incidents: (deck.data?.incidents ?? []).map((i) => ({ xid: i.xid, at: Date.parse(i.time) })),
    onMoment,
    onWindow,
    onPlace,
    onHelp: () => setHelp(true),
  });
  const start = (host?: string) =>
    answer.data &&
    make.mutate(
      { moment: answer.data.moment, ...(host ? { host } : {}) },
      { onSuccess: (t) => t.subject && void navigate({ to: "/copies/$copy", params: { copy: t.subject } }) },
    );
  const iso = (t: number) => when(new Date(t).toISOString());
  const label =
    `Reach of ${p.cluster.name}: ${iso(all.from)} to ${iso(all.to)}` +
    (answer.data && p.moment ? `; playhead at ${answer.data.moment}` : "");
  return (
    <section aria-label="Rewind deck">
      <MomentField
        moment={p.moment}
        answer={p.moment ? answer.data : undefined}
        error={p.moment ? answer.error : null}
        onMoment={onMoment}
      />
      {deck.error && <Trouble error={deck.error} />}
      {deck.data && (
        <Lanes
          deck={deck.data}
          found={found.data?.transactions ?? []}
          window={seen}
          all={all}
          head={head}
          label={label}
          onWindow={onWindow}
          onMoment={onMoment}
        />
      )}
      <Overview cluster={p.cluster} all={all} window={seen} head={head} onWindow={onWindow} />
      <p className="mt-1 flex flex-wrap gap-x-4 text-soft">
        <span>▽ base</span>
        <span>
          <span className="text-undone">▲</span> incident
        </span>
        <span>
          <span className="text-kept">■</span> inserted <span className="text-hole">■</span> updated <Deleted /> deleted
        </span>
        {any(p.wanted) ? (
          <span>
            <span className="text-brass">◆</span> found
          </span>
        ) : null}
        <span className="ml-auto max-md:hidden">click: go there · wheel: zoom · drag: move</span>
        <button className="cursor-pointer underline underline-offset-2 max-md:hidden" onClick={() => setHelp(true)}>
          all keys ( ? )
        </button>
      </p>
      <Find key={String(any(p.wanted))} wanted={p.wanted} onWanted={p.onWanted} />
      <Found cluster={p.cluster.name} found={found} onMoment={onMoment} />
      {make.error && <Trouble error={make.error} />}
      {answer.data ? (
        <div className="mt-3 grid grid-cols-[3fr_2fr] gap-8 max-lg:grid-cols-1">
          <Around answer={answer.data} onMoment={onMoment} />
          <Cost answer={answer.data} making={make.isPending || answer.isPlaceholderData} onCopy={start} />
        </div>
      ) : (
        !answer.error && <Waiting what="the change journal" />
      )}
      <Keys open={help} onClose={() => setHelp(false)} />
    </section>
  );
}

const Deleted = () => <span className="text-undone">▨</span>;

type Hands = {
  all: Window;
  seen: Window;
  head?: number;
  answer?: MomentAnswer;
  incidents: { xid: number; at: number }[];
  onMoment: (m: string) => void;
  onWindow: (w: Window) => void;
  onPlace: (moment: string, window?: Window) => void;
  onHelp: () => void;
};

// step is the moment one transaction further, or undefined at the end of what is known.
function step(a: MomentAnswer, forward: boolean): string | undefined {
  const list = a.around ?? [];
  const x = forward ? list[a.kept] : list[a.kept - 1];
  return x && `${forward ? "" : "before "}tx ${x.xid}`;
}

// useKeys moves the playhead and the window by the keyboard.
function useKeys(h: Hands) {
  useEffect(() => {
    const at = h.head ?? h.all.to;
    const incident = (forward: boolean) => {
      const sorted = [...h.incidents].sort((a, b) => a.at - b.at);
      const next = forward ? sorted.find((i) => i.at > at) : sorted.reverse().find((i) => i.at < at);
      return next && `before tx ${next.xid}`;
    };
    const go = (m?: string) => m && h.onMoment(m);
    const keys: Record<string, () => void> = {
      ArrowLeft: () => h.answer && go(step(h.answer, false)),
      ArrowRight: () => h.answer && go(step(h.answer, true)),
      "Shift+ArrowLeft": () => go(incident(false)),
      "Shift+ArrowRight": () => go(incident(true)),
      "+": () => h.onWindow(zoom(h.seen, at, 0.5, h.all)),
      "-": () => h.onWindow(zoom(h.seen, at, 2, h.all)),
      Home: () => h.onMoment(new Date(h.all.from + 1).toISOString()),
      End: () => h.onMoment("latest"),
      l: () => h.onPlace("", undefined),
      "?": h.onHelp,
    };
    const press = (e: KeyboardEvent) => {
      if (e.target instanceof HTMLInputElement || e.ctrlKey || e.metaKey || e.altKey || document.querySelector("[role=dialog]")) return;
      const name = e.shiftKey && e.key.startsWith("Arrow") ? `Shift+${e.key}` : e.key === "L" ? "l" : e.key === "=" ? "+" : e.key;
      const act = keys[name];
      if (!act) return;
      e.preventDefault();
      act();
    };
    window.addEventListener("keydown", press);
    return () => window.removeEventListener("keydown", press);
  });
}
