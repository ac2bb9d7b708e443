import { type Proof, useProofReport } from "../api";
import { count, lasted } from "../format";
import { Mark } from "./Mark";
import { Table } from "./Table";
import { Time } from "./Time";
import { Trouble } from "./Trouble";

type Check = NonNullable<Proof["checks"]>[number];
type Compared = NonNullable<Check["tables"]>[number];

const order = ["failed", "could not run", "passed"];

// ProofView gives the verdict first, then what to look at, then the rest, then the tables beside the live ones.
export function ProofView({ proof }: { proof: Proof }) {
  const report = useProofReport(proof.id);
  const checks = proof.checks ?? [];
  const look = checks.filter((c) => c.verdict !== "passed").sort((a, b) => order.indexOf(a.verdict) - order.indexOf(b.verdict));
  const passed = checks.filter((c) => c.verdict === "passed");
  const tables = checks.flatMap((c) => c.tables ?? []);
  return (
    <section aria-label="Proof" className="mt-4">
      <div className="mb-1 flex flex-wrap items-baseline justify-between gap-3">
        <h2>
          <Mark state={proof.verdict}>The proof {proof.verdict === "could not run" ? "could not run whole" : proof.verdict}</Mark>
          <span className="font-normal text-soft">
            , <Time at={proof.finishedAt} />
          </span>
        </h2>
        <button className="button" disabled={report.isPending} onClick={() => report.mutate()}>
          Download the report
        </button>
      </div>
      {report.error && <Trouble error={report.error} />}
      {look.map((c) => (
        <Finding key={c.name} check={c} />
      ))}
      {passed.length > 0 && <Passed checks={passed} rest={look.length > 0} />}
      {tables.length > 0 && <Tables tables={tables} />}
    </section>
  );
}

// Finding is a check that a person should look at.
function Finding({ check: c }: { check: Check }) {
  const places = [...(c.wrong ?? []), ...(c.leftOut ?? [])];
  return (
    <div className="my-3 border-l-2 border-line pl-3">
      <h3>
        <Mark state={c.verdict}>
          {c.name} {c.verdict}
        </Mark>
      </h3>
      <p>{c.summary}</p>
      {places.length > 1 && (
        <ul className="list-disc pl-5 text-soft">
          {places.slice(1).map((f) => (
            <li key={f.where + f.what}>
              <code>{f.where}</code>: {f.what}
            </li>
          ))}
        </ul>
      )}
      {(c.notes ?? []).map((n) => (
        <p key={n} className="text-soft">
          {n}
        </p>
      ))}
      {c.next && <p>To do: {c.next}</p>}
    </div>
  );
}

function Passed({ checks, rest }: { checks: Check[]; rest: boolean }) {
  return (
    <details open={!rest}>
      <summary className="cursor-pointer text-soft">{rest ? `${checks.length} other checks passed` : "Every check passed"}</summary>
      <Table heads={["About", "Check", "What was seen", { number: "Took" }]}>
        {checks.map((c, i) => (
          <tr key={c.name} title={[c.shows && `Shows ${c.shows}.`, c.lacks && `Not: ${c.lacks}.`].filter(Boolean).join(" ")}>
            <td className="w-28 text-soft">{c.area !== checks[i - 1]?.area && c.area}</td>
            <td className="w-44">
              <Mark state="passed">{c.name}</Mark>
            </td>
            <td>
              {c.summary}
              {(c.notes ?? []).slice(0, 3).map((n) => (
                <span key={n} className="block text-soft">
                  {n}
                </span>
              ))}
            </td>
            <td className="number whitespace-nowrap">{took(c.seconds)}</td>
          </tr>
        ))}
      </Table>
    </details>
  );
}

const took = (seconds: number): string => (seconds < 1 ? `${Math.round(seconds * 1000)} ms` : lasted(seconds));

// Tables compares: what does not agree comes first, then what differs.
function Tables({ tables }: { tables: Compared[] }) {
  const weight = (t: Compared): number => (t.agrees === "failed" ? 0 : t.problem || t.agrees !== "passed" ? 1 : t.cause ? 2 : 3);
  return (
    <section aria-label="Tables compared" className="mt-4">
      <h2 className="mb-1">Beside the live cluster</h2>
      <Table heads={["Table", { number: "Rows in the copy" }, { number: "Rows live" }, "Why they differ"]}>
        {[...tables]
          .sort((a, b) => weight(a) - weight(b))
          .map((t) => (
            <tr key={`${t.database}.${t.table}`}>
              <td>
                {t.database}.{t.table}
              </td>
              <td className="number">{t.problem ? "not read" : count(t.copyRows)}</td>
              <td className="number">{t.liveRows === undefined ? "–" : count(t.liveRows)}</td>
              <td className={t.agrees === "failed" ? "text-undone" : undefined}>
                {t.agrees === "failed" && "✕ "}
                {t.problem ?? t.cause}
              </td>
            </tr>
          ))}
      </Table>
    </section>
  );
}
