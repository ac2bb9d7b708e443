import { Link } from "@tanstack/react-router";
import { useState } from "react";
import { type Host, useAddHost, useHosts, useRemoveHost } from "../api";
import { of, size } from "../format";
import { Confirm } from "../parts/Confirm";
import { Facts } from "../parts/Facts";
import { Mark } from "../parts/Mark";
import { Table } from "../parts/Table";
import { Time } from "../parts/Time";
import { Trouble, Waiting } from "../parts/Trouble";

// HostsPage answers: which machines can copies be made on, and what stands on each?
export function HostsPage() {
  const hosts = useHosts();
  if (hosts.error) return <Trouble error={hosts.error} />;
  if (!hosts.data) return <Waiting what="the hosts" />;
  const away = hosts.data.filter((h) => !h.connected).length;
  return (
    <>
      <h1>{headline(hosts.data.length, away)}</h1>
      {hosts.data.length > 0 && (
        <Table heads={["Host", "State", "PostgreSQL", { number: "Free" }, "Limits", "Clusters", "Copies", ""]} className="mt-3 w-full">
          {hosts.data.map((h) => (
            <Line key={h.id} host={h} />
          ))}
        </Table>
      )}
      <AddHost />
    </>
  );
}

function headline(hosts: number, away: number): string {
  if (hosts === 0) return "There is no host but the service's own.";
  if (away === 0) return hosts === 1 ? "The host is in reach." : `All ${hosts} hosts are in reach.`;
  return `${of(away, "host")} of ${hosts} out of reach.`;
}

function Line({ host: h }: { host: Host }) {
  const remove = useRemoveHost(h.name);
  const limits = [
    ...(h.mostCopies > 0 ? [h.mostCopies === 1 ? "1 copy" : `${h.mostCopies} copies`] : []),
    ...(h.mostBytes > 0 ? [`${size(h.mostBytes)} together`] : []),
  ];
  return (
    <tr>
      <td>
        {h.name} <span className="text-soft">{h.address}</span>
      </td>
      <td>
        <Mark state={h.connected ? "streaming" : "down"}>
          {h.connected ? "connected" : h.seenAt ? "out of reach since " : "never connected"}
        </Mark>
        {!h.connected && h.seenAt && <Time at={h.seenAt} />}
      </td>
      <td>{(h.majors ?? []).join(", ") || "none"}</td>
      <td className="number">{h.seenAt && size(h.free)}</td>
      <td>{limits.join(", ") || "none"}</td>
      <td>
        {(h.clusters ?? []).map((k, i) => (
          <span key={k}>
            {i > 0 && ", "}
            <Link to="/clusters/$cluster" params={{ cluster: k }}>
              {k}
            </Link>
          </span>
        ))}
        {(h.clusters ?? []).length === 0 && "none"}
      </td>
      <td>
        {(h.copies ?? []).map((k, i) => (
          <span key={k}>
            {i > 0 && ", "}
            <Link to="/copies/$copy" params={{ copy: k }}>
              {k}
            </Link>
          </span>
        ))}
        {(h.copies ?? []).length === 0 && "none"}
      </td>
      <td className="text-right">
        <Confirm
          label="Remove"
          title={`Remove the host ${h.name}?`}
          loss="Its agent will be turned away, and has to join anew. Nothing on the machine is removed."
          name={h.name}
          busy={remove.isPending}
          error={remove.error}
          onConfirm={(typed) => remove.mutate(typed)}
        />
      </td>
    </tr>
  );
}

// AddHost gives a word with which a machine may join, and what to run there.
function AddHost() {
  const add = useAddHost();
  const [name, setName] = useState("");
  const w = add.data;
  return (
    <section aria-label="Add a host" className="mt-8">
      <h2>Add a host</h2>
      <p className="my-2 text-soft">
        A machine with PostgreSQL and velvet joins with a word, once, and connects to the service from then on.
      </p>
      <form
        className="flex items-end gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          add.mutate(name);
        }}
      >
        <label className="text-soft">
          name
          <input className="field mono" value={name} onChange={(e) => setName(e.target.value)} />
        </label>
        <button className="button" disabled={name === "" || add.isPending}>
          Give a word
        </button>
      </form>
      {add.error && <Trouble error={add.error} />}
      {w && (
        <div className="mt-4">
          <Facts
            rows={[
              ["on that machine", <code key="j">velvet host join {w.address}</code>],
              [
                "with the word",
                <code key="w" className="break-all">
                  {w.word}
                </code>,
              ],
              ["good until", <Time key="u" at={w.until} />],
              ["and, to serve", <code key="s">velvet host serve</code>],
            ]}
          />
        </div>
      )}
    </section>
  );
}
