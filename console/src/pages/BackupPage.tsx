import { Link, useNavigate, useParams } from "@tanstack/react-router";
import { type Backup, type BackupContent, useBackup, useBackupContent, useDrop, useDropLoss } from "../api";
import { count, size } from "../format";
import { Confirm } from "../parts/Confirm";
import { Facts } from "../parts/Facts";
import { Mark } from "../parts/Mark";
import { TaskLog } from "../parts/TaskLog";
import { Time } from "../parts/Time";
import { Trouble, Waiting } from "../parts/Trouble";
import { Table } from "../parts/Table";

// BackupPage answers: what does this base backup hold, was it whole, and what would be deleted with it?
export function BackupPage() {
  const { backup: id } = useParams({ from: "/frame/backups/$backup" });
  const backup = useBackup(id);
  const content = useBackupContent(id);
  const navigate = useNavigate();
  const drop = useDrop(id);
  const loss = useDropLoss(id);
  if (backup.error) return <Trouble error={backup.error} />;
  if (!backup.data) return <Waiting what="the base backup" />;
  const b = backup.data;
  return (
    <>
      <header className="flex flex-wrap items-baseline justify-between gap-3">
        <h1>
          Base <span className="mono">{b.id}</span>
          <span className="ml-4 text-base font-normal text-soft">
            of{" "}
            <Link to="/clusters/$cluster" params={{ cluster: b.cluster }}>
              {b.cluster}
            </Link>
            , <Time at={b.stoppedAt} />
          </span>
        </h1>
        <Confirm
          label="Drop it"
          title={`Drop base ${b.id}`}
          loss={`${loss.data ?? "It is not known yet what that costs."}. WAL and other base backups are not touched.`}
          name={b.cluster}
          busy={drop.isPending}
          error={drop.error}
          onConfirm={(typed) =>
            drop.mutate(typed, { onSuccess: () => void navigate({ to: "/clusters/$cluster", params: { cluster: b.cluster } }) })
          }
        />
      </header>
      <Shares backup={b} />
      <div className="my-4">
        <Facts
          rows={[
            [
              "readable",
              b.lost && (
                <Mark key="r" state="failed">
                  no: an audit found that something of it is missing or damaged. No plan begins with it.
                </Mark>
              ),
            ],
            [
              "kind",
              b.kind === "full" ? "full: every byte was read" : "incremental: only what had changed was read; it is complete in itself",
            ],
            ["compared with", b.beside && <code key="b">{b.beside}</code>],
            [
              "taken",
              <span key="t">
                <Time at={b.startedAt} /> to <Time at={b.stoppedAt} />
              </span>,
            ],
            [
              "LSN",
              <span key="l">
                <code>{b.start}</code> to <code>{b.stop}</code> on timeline {b.timeline}
              </span>,
            ],
            [
              "needs the WAL",
              content.data && (
                <span key="w">
                  <code>{content.data.firstWal}</code> to <code>{content.data.lastWal}</code>
                </span>
              ),
            ],
            [
              "pages",
              b.pageFaults === 0 ? (
                <Mark key="p" state="passed">
                  {count(b.pages)} checked, every one right
                </Mark>
              ) : (
                <Mark key="p" state="failed">
                  {count(b.pageFaults)} of {count(b.pages)} damaged
                </Mark>
              ),
            ],
            ["damaged", b.damaged.length > 0 && <Damaged key="d" pages={b.damaged} />],
            ["extents", `${count(b.extents)}, of which ${count(b.newExtents)} were new and ${count(b.zeroExtents)} are zeroes`],
            [
              "alone",
              content.data &&
                (content.data.alone === undefined
                  ? "not known: what another base backup needs cannot be read"
                  : `${size(content.data.alone)} in the store that no other backup needs`),
            ],
          ]}
        />
      </div>
      {content.error && <Trouble error={content.error} />}
      {content.data && <Content content={content.data} />}
      <h2 className="mt-6">How it was taken</h2>
      {b.task ? <TaskLog task={b.task} /> : <p className="text-soft">The log is not kept: the catalogue was made anew from the store.</p>}
    </>
  );
}

// Damaged names the damaged pages, so many of them that it can be read.
function Damaged({ pages }: { pages: Backup["damaged"] }) {
  const most = 20;
  return (
    <ul>
      {pages.slice(0, most).map((d) => (
        <li key={`${d.path} ${d.block}`}>
          {d.table ?? "no table is known"}, block {d.block} of <code>{d.path}</code>: {d.fault}
        </li>
      ))}
      {pages.length > most && <li>and {count(pages.length - most)} more</li>}
    </ul>
  );
}

// Shares draws on one scale what the backup holds, what was read for it and what it added.
function Shares({ backup: b }: { backup: Backup }) {
  const rows: [string, number, string][] = [
    ["holds", b.bytesHeld, "bg-velvet"],
    ["read from the server", b.bytesRead, "bg-brass"],
    ["shared with older ones", b.bytesShared, "bg-kept"],
    ["added to the store", b.bytesStored, "bg-undone"],
  ];
  const most = Math.max(1, ...rows.map(([, n]) => n));
  return (
    <dl className="my-4 grid grid-cols-[max-content_1fr_max-content] items-center gap-x-4 gap-y-1" aria-label="What it took">
      {rows.map(([name, n, tone]) => (
        <div key={name} className="contents">
          <dt className="text-soft">{name}</dt>
          <dd className="h-2.5 bg-raised" aria-hidden>
            <div className={`h-full ${tone}`} style={{ width: `${Math.max(n > 0 ? 0.3 : 0, (100 * n) / most)}%` }} />
          </dd>
          <dd className="number">{size(n)}</dd>
        </div>
      ))}
    </dl>
  );
}

function Content({ content: c }: { content: BackupContent }) {
  const relations = c.relations ?? [];
  return (
    <div className="grid gap-8 xl:grid-cols-[1fr_2fr]">
      <section aria-label="Databases">
        <h2>Databases</h2>
        <Table heads={["Database", { number: "Files" }, { number: "Holds" }]}>
          {(c.databases ?? []).map((d) => (
            <tr key={d.oid}>
              <td>{d.oid === 0 ? "shared catalogs" : d.name || `database ${d.oid}`}</td>
              <td className="number">{count(d.files)}</td>
              <td className="number">{size(d.bytes)}</td>
            </tr>
          ))}
          <tr>
            <td className="text-soft">other files</td>
            <td />
            <td className="number">{size(c.other)}</td>
          </tr>
        </Table>
        {(c.tablespaces ?? [])
          .filter((s) => s.location)
          .map((s) => (
            <p key={s.oid} className="mt-1 text-soft">
              {size(s.bytes)} in the tablespace at <code>{s.location}</code>
            </p>
          ))}
      </section>
      <section aria-label="Tables">
        <h2>Largest tables</h2>
        <Table heads={["Table", { number: "Rows" }, { number: "Indexes" }, { number: "TOAST" }]}>
          {relations.slice(0, 15).map((r) => (
            <tr key={`${r.database}.${r.schema}.${r.table}`}>
              <td>
                <span className="text-soft">{r.database}.</span>
                {r.schema}.{r.table}
              </td>
              <td className="number">{size(r.main)}</td>
              <td className="number">{size(r.indexes)}</td>
              <td className="number">{size(r.toast)}</td>
            </tr>
          ))}
        </Table>
        <p className="mt-1 text-soft">
          {relations.length - 15 + c.moreTables > 0 && `and ${count(Math.max(0, relations.length - 15) + c.moreTables)} smaller tables, `}
          and system catalogs, {size(c.catalogs)}
        </p>
      </section>
    </div>
  );
}
