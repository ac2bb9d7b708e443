import { useEffect, useRef, useState } from "react";
import { type MomentAnswer, Problem } from "../api";
import { Time } from "../parts/Time";
import { Trouble } from "../parts/Trouble";

// pause is how long a moment must rest before it is resolved.
const pause = 350;

// MomentField takes any moment of the language, and says what it means or where it goes wrong.
export function MomentField(p: { moment: string; answer?: MomentAnswer; error: Error | null; onMoment: (m: string) => void }) {
  const [text, setText] = useState(p.moment);
  const field = useRef<HTMLInputElement>(null);
  const sent = useRef(p.moment);
  const { moment, onMoment } = p;
  useEffect(() => {
    if (moment !== sent.current) setText(moment); // the playhead was moved by other means
    sent.current = moment;
  }, [moment]);
  useEffect(() => {
    if (text === sent.current) return;
    const timer = setTimeout(() => {
      sent.current = text;
      onMoment(text);
    }, pause);
    return () => clearTimeout(timer);
  }, [text, onMoment]);
  useEffect(() => {
    const jump = (e: KeyboardEvent) => {
      if (e.key === "/" && !(e.target instanceof HTMLInputElement)) {
        e.preventDefault();
        field.current?.focus();
        field.current?.select();
      }
    };
    window.addEventListener("keydown", jump);
    return () => window.removeEventListener("keydown", jump);
  }, []);
  return (
    <>
      <label className="mt-4 block">
        <span className="sr-only">Moment to go back to</span>
        <input
          ref={field}
          className="field mono"
          placeholder="Go back to …  before delete of booking · today 14:03 · 12m ago · before tx 84213 · restore point NAME     ( / )"
          value={text}
          spellCheck={false}
          autoComplete="off"
          aria-describedby="meaning"
          onChange={(e) => setText(e.target.value)}
          onKeyDown={(e) => {
            if (e.key === "Escape") field.current?.blur();
          }}
        />
      </label>
      <div id="meaning" aria-live="polite" className="min-h-6 pt-1">
        {p.error ? <Wrong text={moment} error={p.error} /> : p.answer && <Meaning answer={p.answer} />}
      </div>
    </>
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

// Meaning says in words where replay stops.
function Meaning({ answer }: { answer: MomentAnswer }) {
  const b = answer.boundary;
  return (
    <p className="text-soft">
      <code className="text-ink">{answer.moment}</code>
      {answer.utc && <> ({answer.utc.replace("T", " ").replace("Z", "")} UTC)</>}: replay stops {b.inclusive ? "after" : "before"} the
      record at <code className="text-ink">{b.stop}</code> on timeline {b.timeline}
      {b.lastIn && (
        <>
          {"; last in: tx "}
          <code className="text-ink">{b.lastIn.xid}</code>, <Time at={b.lastIn.time} exact />
        </>
      )}
      {b.firstOut && (
        <>
          {"; first out: tx "}
          <code className="text-ink">{b.firstOut.xid}</code>, <Time at={b.firstOut.time} exact />
        </>
      )}
      .{answer.note && <span className="block text-brass">Note: {answer.note}.</span>}
    </p>
  );
}
