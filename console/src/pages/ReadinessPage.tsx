import { useParams } from "@tanstack/react-router";
import { useState } from "react";
import { type Check, type Readiness, queries, useApplyReadiness, useReadiness } from "../api";
import { Trouble, Waiting } from "../parts/Trouble";
import { ClusterTabs } from "./ClusterTabs";

const order: Check["state"][] = ["needed", "advised", "choice", "unknown", "ok"];

const looks: Record<Check["state"], { shape: string; tone: string; label: string }> = {
  needed: { shape: "✕", tone: "text-undone", label: "needed" },
  advised: { shape: "▲", tone: "text-brass", label: "advised" },
  choice: { shape: "◇", tone: "text-velvet", label: "your choice" },
  unknown: { shape: "?", tone: "text-soft", label: "not known" },
  ok: { shape: "✓", tone: "text-kept", label: "right" },
};

// ReadinessPage walks through what a cluster lacks, one step after the other.
export function ReadinessPage() {
  const { cluster } = useParams({ from: "/frame/clusters/$cluster/readiness" });
  const report = useReadiness(cluster);
  if (report.error) return <Trouble error={report.error} />;
  if (!report.data) return <Waiting what={`how ready ${cluster} is`} />;
  return <Walk cluster={cluster} report={report.data} />;
}

function Walk({ cluster, report }: { cluster: string; report: Readiness }) {
  const steps = [...(report.checks ?? [])].sort((a, b) => order.indexOf(a.state) - order.indexOf(b.state));
  const open = steps.filter((c) => c.state !== "ok");
  const [at, setAt] = useState<string>();
  const shown = steps.find((c) => c.id === at) ?? open[0] ?? steps[0];
  const needed = steps.filter((c) => c.state === "needed").length;
  const advised = steps.filter((c) => c.state === "advised").length;
  return (
    <>
      <ClusterTabs cluster={cluster} />
      <header className="flex items-baseline justify-between">
        <h1>
          {needed > 0
            ? `${cluster} cannot be protected yet: ${needed} needed`
            : advised > 0
              ? `${cluster} can be protected; ${advised} advised`
              : `${cluster} lacks nothing`}
        </h1>
        <button className="button reads" onClick={() => void queries.invalidateQueries({ queryKey: ["readiness", cluster] })}>
          Check again
        </button>
      </header>
      <div className="mt-4 flex gap-8 max-md:flex-col">
        <ol className="w-80 shrink-0" aria-label="Steps">
          {steps.map((c) => (
            <li key={c.id}>
              <button className="step" aria-current={shown?.id === c.id ? "step" : undefined} onClick={() => setAt(c.id)}>
                <span aria-hidden className={`${looks[c.state].tone} w-4 font-bold`}>
                  {looks[c.state].shape}
                </span>
                <span className="flex-1">{c.title}</span>
                <span className="text-soft">{looks[c.state].label}</span>
              </button>
            </li>
          ))}
        </ol>
        {shown && (
          <Step
            key={shown.id}
            cluster={cluster}
            check={shown}
            onNext={() => setAt(open[open.findIndex((c) => c.id === shown.id) + 1]?.id)}
            more={open.length > 1}
          />
        )}
      </div>
    </>
  );
}

function Step({ cluster, check: c, onNext, more }: { cluster: string; check: Check; onNext: () => void; more: boolean }) {
  const fixable = (c.sql ?? []).length > 0 && !(c.sql ?? []).some((q) => q.startsWith("SELECT")) && c.state !== "ok";
  return (
    <section aria-label={c.title} className="min-w-0 flex-1">
      <h2>
        {c.title}: {c.found}
      </h2>
      <p className="my-2">{c.why}</p>
      {(c.sql ?? []).length > 0 && (
        <>
          <p className="text-soft">What fixes it, as a superuser of the cluster:</p>
          <pre className="my-1 overflow-x-auto border border-line bg-raised p-3 whitespace-pre-wrap">{(c.sql ?? []).join("\n")}</pre>
        </>
      )}
      {(c.edit ?? []).length > 0 && (
        <pre className="my-1 overflow-x-auto border border-line bg-raised p-3 whitespace-pre-wrap">{(c.edit ?? []).join("\n")}</pre>
      )}
      {c.after && (
        <p>
          {c.after === "restart"
            ? "It takes effect when the server is restarted, which is left to you."
            : "The server must read its configuration again, which is done with it."}
        </p>
      )}
      {c.effect && <p className="text-soft">{c.effect}</p>}
      {fixable && <Apply cluster={cluster} check={c} />}
      {more && c.state !== "ok" && (
        <button className="button reads mt-4" onClick={onNext}>
          Next step
        </button>
      )}
    </section>
  );
}

function Apply({ cluster, check }: { cluster: string; check: Check }) {
  const apply = useApplyReadiness(cluster);
  const [as, setAs] = useState("postgres");
  const [asPassword, setPassword] = useState("");
  const [confirm, setConfirm] = useState("");
  return (
    <form
      className="mt-4 flex flex-wrap items-end gap-3"
      onSubmit={(e) => {
        e.preventDefault();
        apply.mutate({ checks: [check.id], as, asPassword, confirm });
      }}
    >
      <label className="text-soft">
        run it as
        <input className="field" autoComplete="username" value={as} onChange={(e) => setAs(e.target.value)} />
      </label>
      <label className="text-soft">
        password, not kept
        <input className="field" type="password" autoComplete="off" value={asPassword} onChange={(e) => setPassword(e.target.value)} />
      </label>
      <label className="text-soft">
        type {cluster} to confirm
        <input className="field mono" value={confirm} onChange={(e) => setConfirm(e.target.value)} />
      </label>
      <button className="button primary" disabled={confirm !== cluster || apply.isPending}>
        Run it and check again
      </button>
      {apply.error && <Trouble error={apply.error} />}
    </form>
  );
}
