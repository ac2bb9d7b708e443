import { useNavigate } from "@tanstack/react-router";
import { useEffect, useRef, useState } from "react";
import { type Backup, type Cluster, type Plan, Problem, useMakeCopy, usePlan } from "../api";
import { size } from "../format";
import { Reel } from "../parts/Reel";
import { Time } from "../parts/Time";
import { Trouble } from "../parts/Trouble";

// pause is how long a moment must rest before it is resolved.
const pause = 350;

function useRested(value: string): string {
  const [rested, setRested] = useState(value);
  useEffect(() => {
    const timer = setTimeout(() => setRested(value), pause);
    return () => clearTimeout(timer);
  }, [value]);
  return rested;
}

// MomentDesk is the moment field with what the moment means, on the reel and in words.
export function MomentDesk(p: { cluster: Cluster; backups: Backup[]; moment: string; onMoment: (m: string) => void }) {
  const [text, setText] = useState(p.moment);
  const rested = useRested(text);
  const plan = usePlan(p.cluster.name, rested);
  const make = useMakeCopy(p.cluster.name);
  const navigate = useNavigate();
  const field = useRef<HTMLInputElement>(null);
  const { moment, onMoment } = p;
  useEffect(() => {
    if (rested !== moment) onMoment(rested);
  }, [rested, moment, onMoment]);
  useEffect(() => {
    const jump = (e: KeyboardEvent) => {
      if (e.key === "/" && !(e.target instanceof HTMLInputElement)) {
        e.preventDefault();
        field.current?.focus();
      }
    };
    window.addEventListener("keydown", jump);
    return () => window.removeEventListener("keydown", jump);
  }, []);
  const settled = rested === text && !plan.isFetching;
  const start = () => make.mutate(rested, { onSuccess: (t) => t.subject && void navigate({ to: "/copies/$copy", params: { copy: t.subject } }) });
  return (
    <section aria-label="Moment" className="mt-4">
      <form
        className="flex gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          if (plan.data && settled) start();
        }}
      >
        <label className="flex-1">
          <span className="sr-only">Moment to go back to</span>
          <input
            ref={field}
            className="field mono"
            placeholder="Go back to …  latest · before tx 84213 · 2026-11-23 14:03:07 Europe/Lisbon · lsn 0/5A3F2B8     ( / )"
            value={text}
            spellCheck={false}
            autoComplete="off"
            aria-describedby="meaning"
            onChange={(e) => setText(e.target.value)}
          />
        </label>
        <button className="button primary" disabled={!plan.data || !settled || make.isPending}>
          Make a side copy
        </button>
      </form>
      <div id="meaning" aria-live="polite" className="min-h-6">
        {rested !== "" && plan.error && <Wrong text={rested} error={plan.error} />}
        {make.error && <Trouble error={make.error} />}
        {plan.data && rested !== "" && <Meaning plan={plan.data} />}
      </div>
      <Reel cluster={p.cluster} backups={p.backups} plan={rested !== "" ? plan.data : undefined} />
    </section>
  );
}

// Wrong shows an error under the very character where the moment goes wrong.
function Wrong({ text, error }: { text: string; error: Error }) {
  if (!(error instanceof Problem) || error.at === undefined) return <Trouble error={error} />;
  const before = new TextDecoder().decode(new TextEncoder().encode(text).slice(0, error.at));
  return (
    <div role="alert" className="px-[0.65rem]">
      <pre className="text-undone leading-none" aria-hidden>
        {" ".repeat([...before].length)}▲
      </pre>
      <p>{error.detail?.replace(/^moment ".*", /, "")}</p>
    </div>
  );
}

// Meaning says the boundary in words: kept above the brass line, undone below.
function Meaning({ plan }: { plan: Plan }) {
  const b = plan.boundary;
  return (
    <div className="mt-3 grid grid-cols-[1fr_1fr] gap-8 max-lg:grid-cols-1">
      <table aria-label="Boundary" className="self-start">
        <tbody>
          <tr>
            <td className="text-kept font-bold">◂ kept</td>
            <td>
              {b.lastIn ? (
                <>
                  last in: tx <code>{b.lastIn.xid}</code>, committed <Time at={b.lastIn.time} />
                </>
              ) : (
                "no transaction since the base backup"
              )}
            </td>
          </tr>
          <tr className="[&>td]:border-t-2 [&>td]:border-t-brass">
            <td className="text-undone font-bold">▸ undone</td>
            <td>
              {b.firstOut ? (
                <>
                  first out: tx <code>{b.firstOut.xid}</code>, committed <Time at={b.firstOut.time} />
                </>
              ) : (
                "nothing that is known yet"
              )}
            </td>
          </tr>
        </tbody>
      </table>
      <p className="text-soft">
        Replay stops {b.inclusive ? "behind" : "before"} the record at <code className="text-ink">{b.stop}</code> on timeline {b.timeline}. It begins with base{" "}
        <code className="text-ink">{plan.base}</code> and replays {size(plan.replayBytes)} of WAL from {plan.segments} segments. The original is not touched.
      </p>
    </div>
  );
}
