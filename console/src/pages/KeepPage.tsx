import { Link, useNavigate, useParams, useSearch } from "@tanstack/react-router";
import { useState } from "react";
import {
  type Keep,
  type KeepPreview,
  type KeepRule,
  useApplyKeep,
  useKeep,
  useKeepPreview,
  usePin,
  useSetKeep,
  useUndoKeep,
  useUnpin,
} from "../api";
import { count, of, shortened, size } from "../format";
import { KeepPicture } from "../keep/KeepPicture";
import { Confirm } from "../parts/Confirm";
import { Time } from "../parts/Time";
import { Trouble, Waiting } from "../parts/Trouble";
import { ClusterTabs } from "./ClusterTabs";
import { Table } from "../parts/Table";
import { Id } from "../parts/Id";

// KeepPage answers: how far back is promised, what is needed for it, and what would be deleted?
export function KeepPage() {
  const { cluster } = useParams({ from: "/frame/clusters/$cluster/keep" });
  const { asOf } = useSearch({ from: "/frame/clusters/$cluster/keep" });
  const navigate = useNavigate();
  const keep = useKeep(cluster);
  const [trial, setTrial] = useState<KeepRule>();
  const preview = useKeepPreview(cluster, trial, asOf ? new Date(`${asOf}T12:00:00`).toISOString() : undefined);
  const save = useSetKeep(cluster);
  if (keep.error) return <Trouble error={keep.error} />;
  if (!keep.data) return <Waiting what={`what ${cluster} keeps`} />;
  const k = keep.data;
  return (
    <>
      <ClusterTabs cluster={cluster} />
      <h1>
        {k.promise.held ? "The promise is held: " : "The promise is not held yet: "}
        <span className="font-normal">{k.promise.words}</span>
      </h1>
      <p className="my-1 text-soft">
        {k.from}; promised since <Time at={k.promise.since} />, reached since <Time at={k.promise.heldFrom} none="nothing yet" />
        {k.nextRun ? (
          <>
            ; the calendar deletes next at <Time at={k.nextRun} />
          </>
        ) : (
          "; nothing is deleted by the calendar"
        )}
      </p>
      {k.deleted && <Deleted cluster={cluster} deleted={k.deleted} />}
      <RuleForm
        key={JSON.stringify(k.rule)}
        rule={k.rule}
        busy={save.isPending}
        onTry={setTrial}
        onSave={(r) => save.mutate(r, { onSuccess: () => setTrial(undefined) })}
        asOf={asOf ?? ""}
        onDay={(day) =>
          void navigate({ to: "/clusters/$cluster/keep", params: { cluster }, search: day ? { asOf: day } : {}, replace: true })
        }
      />
      {save.error && <Trouble error={save.error} />}
      {preview.error && <Trouble error={preview.error} />}
      {preview.data && <Preview keep={k} preview={preview.data} hypothetical={trial !== undefined || asOf !== undefined} />}
    </>
  );
}

// Deleted is what can be taken back still.
function Deleted({ cluster, deleted: d }: { cluster: string; deleted: NonNullable<Keep["deleted"]> }) {
  const undo = useUndoKeep(cluster);
  return (
    <div className="my-2 flex flex-wrap items-start justify-between gap-3">
      <div>
        {(d.backups ?? []).map((b) => (
          <p key={b.id}>
            Deleted: the base backup of <Time at={b.takenAt} />, permanently deleted after <Time at={b.until} />
          </p>
        ))}
        {d.segments > 0 && (
          <p>
            Deleted: {of(d.segments, "WAL segment")}, {size(d.bytes)}, permanently deleted after <Time at={d.walUntil} none="a while" />
          </p>
        )}
      </div>
      <button className="button" disabled={undo.isPending} onClick={() => undo.mutate()}>
        Take back
      </button>
      {undo.error && <Trouble error={undo.error} />}
    </div>
  );
}

const parts: { name: "count" | "daily" | "weekly" | "monthly" | "yearly"; label: string }[] = [
  { name: "count", label: "newest" },
  { name: "daily", label: "first of days" },
  { name: "weekly", label: "of weeks" },
  { name: "monthly", label: "of months" },
  { name: "yearly", label: "of years" },
];

function RuleForm(p: {
  rule: KeepRule;
  busy: boolean;
  onTry: (r?: KeepRule) => void;
  onSave: (r: KeepRule) => void;
  asOf: string;
  onDay: (day: string) => void;
}) {
  const [rule, setRule] = useState(p.rule);
  const change = (r: KeepRule) => {
    setRule(r);
    p.onTry(JSON.stringify(r) === JSON.stringify(p.rule) ? undefined : r);
  };
  const changed = JSON.stringify(rule) !== JSON.stringify(p.rule);
  return (
    <form
      className="my-3 flex flex-wrap items-end gap-3"
      onSubmit={(e) => {
        e.preventDefault();
        p.onSave(rule);
      }}
    >
      <label className="text-soft">
        any moment of days
        <input
          className="field"
          type="number"
          min={0}
          style={{ width: "7rem" }}
          value={rule.spanHours / 24}
          step="any"
          onChange={(e) => change({ ...rule, spanHours: Math.round(Number(e.target.value) * 24) })}
        />
      </label>
      {parts.map(({ name, label }) => (
        <label key={name} className="text-soft">
          {label}
          <input
            className="field"
            type="number"
            min={0}
            style={{ width: "5.5rem" }}
            value={rule[name]}
            onChange={(e) => change({ ...rule, [name]: Math.round(Number(e.target.value)) })}
          />
        </label>
      ))}
      <label className="text-soft">
        as of the day
        <input className="field" type="date" style={{ width: "10rem" }} value={p.asOf} onChange={(e) => p.onDay(e.target.value)} />
      </label>
      {changed && (
        <>
          <button className="button primary" disabled={p.busy}>
            Set this rule
          </button>
          <button type="button" className="button" onClick={() => change(p.rule)}>
            Back to the rule as it is
          </button>
        </>
      )}
    </form>
  );
}

function Preview({ keep, preview: p, hypothetical }: { keep: Keep; preview: KeepPreview; hypothetical: boolean }) {
  const apply = useApplyKeep(keep.cluster);
  const going = (p.bases ?? []).filter((b) => !b.needed).length;
  const segments = (p.wal ?? []).filter((w) => !w.needed).reduce((n, w) => n + w.last - w.first + 1, 0);
  const bases = p.freesBackups === undefined ? "an unknown amount" : size(p.freesBackups);
  const frees = `${bases} of base backups and ${size(p.freesWal)} of WAL`;
  return (
    <>
      <KeepPicture preview={p} />
      <div className="my-2 flex flex-wrap items-center justify-between gap-3">
        <p>
          {going + segments === 0 ? (
            "Everything is still needed: nothing would be deleted."
          ) : (
            <>
              {of(going, "base backup")} and {of(segments, "WAL segment")}{" "}
              {hypothetical ? "would be deleted then" : "are not needed any more"}: {frees}.
            </>
          )}
        </p>
        {going + segments > 0 && !hypothetical && (
          <Confirm
            label="Delete them"
            title="Delete what the rule does not need?"
            loss={
              `${of(going, "base backup")} and ${of(segments, "WAL segment")} are deleted, which frees ${frees} once they are ` +
              "permanently deleted: until then they can be taken back. If something else would be deleted by then, nothing is."
            }
            name={keep.cluster}
            busy={apply.isPending}
            error={apply.error}
            onConfirm={(confirm) => apply.mutate({ token: p.token, confirm })}
          />
        )}
      </div>
      <Reach preview={p} />
      <Bases keep={keep} preview={p} />
      <WAL preview={p} />
    </>
  );
}

function Reach({ preview: p }: { preview: KeepPreview }) {
  const line = (label: string, spans: KeepPreview["before"]) => (
    <tr>
      <td className="text-soft whitespace-nowrap">{label}</td>
      <td>
        {(spans ?? []).map((s) => (
          <span key={s.from} className="mr-4 inline-block">
            <Time at={s.fromTime} />{" "}
            {s.fromTime !== s.toTime && (
              <>
                to <Time at={s.toTime} />
              </>
            )}
          </span>
        ))}
      </td>
    </tr>
  );
  return (
    <table className="mt-2" aria-label="Reach">
      <tbody>
        {line("reach now", p.before)}
        {line("reach after", p.after)}
      </tbody>
    </table>
  );
}

function Bases({ keep, preview: p }: { keep: Keep; preview: KeepPreview }) {
  return (
    <section className="mt-5" aria-label="Base backups">
      <h2>Base backups</h2>
      <table className="w-full">
        <thead>
          <tr>
            <th>Base</th>
            <th>Complete</th>
            <th>Verdict</th>
            <th>Why</th>
            <th>
              <span className="sr-only">Actions</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {(p.bases ?? []).map((b) => (
            <tr key={b.id}>
              <td>
                <Link className="mono" to="/backups/$backup" params={{ backup: b.id }}>
                  <Id of={b.id} />
                </Link>
              </td>
              <td>
                <Time at={b.stopTime} />
              </td>
              <td>
                <Verdict needed={b.needed} />
              </td>
              <td>{shortened((b.reasons ?? []).map((r) => r.text).join("; "))}</td>
              <td>
                <PinButton backup={b.id} pinned={(keep.pins ?? []).some((x) => x.backup === b.id)} />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

function Verdict({ needed }: { needed: boolean }) {
  return needed ? (
    <span className="whitespace-nowrap">
      <span aria-hidden className="inline-block w-5 text-kept">
        ▼
      </span>
      needed
    </span>
  ) : (
    <span className="whitespace-nowrap">
      <span aria-hidden className="inline-block w-5 text-undone">
        △
      </span>
      releasable
    </span>
  );
}

function PinButton({ backup, pinned }: { backup: string; pinned: boolean }) {
  const pin = usePin();
  const unpin = useUnpin();
  const [reason, setReason] = useState<string>();
  const [until, setUntil] = useState("");
  if (pinned)
    return (
      <button className="button" disabled={unpin.isPending} onClick={() => unpin.mutate(backup)}>
        Take the pin off
      </button>
    );
  if (reason === undefined)
    return (
      <>
        <button className="button" onClick={() => setReason("")}>
          Pin
        </button>
        {pin.error && <Trouble error={pin.error} />}
      </>
    );
  return (
    <form
      className="flex gap-2"
      onSubmit={(e) => {
        e.preventDefault();
        if (!reason) return;
        pin.mutate({ backup, reason, ...(until ? { until: new Date(`${until}T00:00:00`).toISOString() } : {}) });
        setReason(undefined);
      }}
    >
      <input
        className="field"
        aria-label="why it is pinned"
        placeholder="why"
        autoFocus
        value={reason}
        onChange={(e) => setReason(e.target.value)}
      />
      <input
        className="field"
        type="date"
        aria-label="day on which the pin expires"
        title="day on which it expires; none: when it is taken off"
        value={until}
        onChange={(e) => setUntil(e.target.value)}
      />
      <button className="button" disabled={!reason}>
        Pin
      </button>
    </form>
  );
}

function WAL({ preview: p }: { preview: KeepPreview }) {
  return (
    <section className="mt-5" aria-label="WAL">
      <h2>WAL</h2>
      <Table heads={[{ number: "Timeline" }, "From", "To", { number: "Segments" }, "Verdict", "Why"]}>
        {(p.wal ?? []).map((w) => (
          <tr key={`${w.timeline} ${w.first}`}>
            <td className="number">{w.timeline}</td>
            <td>
              <code>{w.from}</code>
            </td>
            <td>
              <code>{w.to}</code>
            </td>
            <td className="number">{count(w.last - w.first + 1)}</td>
            <td>
              <Verdict needed={w.needed} />
            </td>
            <td>{shortened((w.reasons ?? []).map((r) => r.text).join("; "))}</td>
          </tr>
        ))}
      </Table>
    </section>
  );
}
