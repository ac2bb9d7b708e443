// Shows a page of the console over a service whose answers a test writes down.
import { QueryClientProvider } from "@tanstack/react-query";
import { createMemoryHistory, RouterProvider } from "@tanstack/react-router";
import { cleanup, configure, render, screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { type Backup, type Cluster, type Copy, queries, type Task } from "../api";
import { makeRouter } from "../routes";
import { service } from "./setup";

// How quick a machine is decides no test.
configure({ asyncUtilTimeout: 30_000 });

type Answer = unknown | ((body: unknown, url: URL) => unknown);

// Refusal is an answer that is a problem document.
export class Refusal {
  constructor(
    readonly status: number,
    readonly doc: { title: string; detail?: string; next?: string; at?: number },
  ) {}
}

// asked lists what was asked of the service since the page was shown, but for what only reads.
export const asked: { what: string; body: unknown }[] = [];

// show opens a page. answers are by "METHOD path"; what is not named is not there.
export function show(path: string, answers: Record<string, Answer>) {
  cleanup();
  queries.clear();
  asked.length = 0;
  const all: Record<string, Answer> = { "GET /clusters": [], "GET /tasks": [], ...answers };
  service.answer = async (request) => {
    const url = new URL(request.url);
    const what = `${request.method} ${url.pathname.replace("/api/v1", "")}`;
    const text = await request.text();
    const body: unknown = text ? JSON.parse(text) : undefined;
    if (request.method !== "GET" && !/\/(moment|preview)$/.test(what)) asked.push({ what, body });
    let answer = all[what];
    if (typeof answer === "function") answer = answer(body, url);
    if (answer === undefined) answer = new Refusal(404, { title: `there is no ${what}` });
    if (answer instanceof Refusal)
      return new Response(JSON.stringify({ status: answer.status, ...answer.doc }), {
        status: answer.status,
        headers: { "Content-Type": "application/problem+json" },
      });
    return new Response(JSON.stringify(answer), { status: 200, headers: { "Content-Type": "application/json" } });
  };
  const router = makeRouter(createMemoryHistory({ initialEntries: [path] }));
  render(
    <QueryClientProvider client={queries}>
      <RouterProvider router={router} />
    </QueryClientProvider>,
  );
  return { router, user: userEvent.setup() };
}

// sees waits until a text is shown; button waits for one.
export const sees = (text: string | RegExp) => screen.findByText(text);
export const button = (name: string | RegExp) => screen.findByRole("button", { name });

export const noon = "2027-03-10T12:00:00Z";

// ferries is a cluster that lacks nothing.
export const ferries = (over: Partial<Cluster> = {}): Cluster => ({
  id: "01k",
  name: "ferries",
  connString: "host=db1",
  systemId: "7",
  serverVersion: 150018,
  dataChecksums: true,
  slot: "velvet",
  createdAt: noon,
  capture: {
    state: "streaming",
    wanted: true,
    timeline: 1,
    flushed: "0/5000000",
    stored: "0/5000000",
    server: "0/5000000",
    lagBytes: 0,
    spooled: 0,
    retained: 0,
    room: -1,
    clockAhead: 0,
    authorsLook: 0,
    since: noon,
  },
  reach: [],
  holes: [],
  incidents: [],
  measuredAt: noon,
  labels: {},
  backups: 1,
  promise: { words: "any moment of the last 5 days", since: noon, held: true, heldFrom: noon },
  needs: [],
  ...over,
});

export const base = (over: Partial<Backup> = {}): Backup => ({
  id: "01b",
  cluster: "ferries",
  kind: "incremental",
  timeline: 1,
  start: "0/1000028",
  stop: "0/1000138",
  startedAt: noon,
  stoppedAt: noon,
  files: 1295,
  bytesRead: 8 << 20,
  bytesHeld: 113 << 20,
  bytesStored: 700 << 10,
  bytesShared: 17 << 20,
  extents: 1400,
  newExtents: 12,
  zeroExtents: 3,
  pages: 14072,
  pageFaults: 0,
  damaged: [],
  tablespaces: [],
  task: "",
  ...over,
});

export const copy = (over: Partial<Copy> = {}): Copy => ({
  id: "01c",
  name: "ferries-1",
  waysIn: [{ who: "any role of the original, with its password", command: "psql -h 127.0.0.1 -p 33889 -U harbourmaster postgres" }],
  cluster: "ferries",
  moment: "before tx 1759",
  state: "paused",
  port: 33889,
  directory: "/copies/01c",
  plan: {
    boundary: {
      moment: "before tx 1759",
      timeline: 1,
      stop: "0/5000000",
      inclusive: false,
      end: "0/5000000",
      lastIn: { xid: 1758, lsn: "0/4FFFFF0", time: noon },
      firstOut: { xid: 1759, lsn: "0/5000000", time: noon },
    },
    base: "01b",
    start: "0/1000028",
    firstSegment: "A",
    lastSegment: "B",
    segments: 9,
    replayBytes: 137 << 20,
  },
  replayed: "0/5000000",
  replayedTo: noon,
  createdAt: noon,
  task: "01t",
  ...over,
});

export const task = (over: Partial<Task> = {}): Task => ({
  id: "01t",
  kind: "backup",
  cluster: "ferries",
  subject: "01b",
  state: "done",
  done: 0,
  total: 0,
  unit: "",
  createdAt: noon,
  startedAt: noon,
  finishedAt: noon,
  seconds: 75,
  rate: 0,
  ...over,
});
