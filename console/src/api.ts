// The API, its types made from the service's own description, and its errors.
import { QueryClient, useMutation, useQuery } from "@tanstack/react-query";
import createClient from "openapi-fetch";
import type { components, operations, paths } from "./schema";

type Schemas = components["schemas"];
export type Cluster = Schemas["Cluster"];
export type Backup = Schemas["Backup"];
export type BackupContent = Schemas["Content"];
export type Store = Schemas["Store"];
export type StoreCluster = Schemas["StoreCluster"];
export type Copy = Schemas["Copy"];
export type Proof = Schemas["Proof"];
export type Digest = Schemas["Digest"];
export type DigestLine = Schemas["DigestLine"];
export type Rehearsal = Schemas["Rehearsal"];
export type Task = Schemas["Task"];
export type Line = Schemas["Line"];
export type Need = Schemas["Need"];
export type Keep = Schemas["Keep"];
export type KeepRule = Schemas["KeepRule"];
export type KeepPreview = Schemas["KeepPreview"];
export type Entry = Schemas["Entry"];
export type Schedule = Schemas["CalendarSchedule"];
export type Check = Schemas["ReadinessCheck"];
export type Readiness = Schemas["ReadinessReport"];
export type BackupLine = Schemas["BackupLine"];
export type Plan = Schemas["Restore"];
export type Deck = Schemas["Deck"];
export type Rate = Schemas["Rate"];
export type Incident = Schemas["Incident"];
export type MomentAnswer = Schemas["Moment"];
export type Author = Schemas["Author"];
export type Cell = Schemas["Cell"];
export type Row = Schemas["Row"];
export type Transaction = Schemas["Transaction"];
export type TableChange = Schemas["TableChange"];
export type TableCost = NonNullable<Schemas["Cost"]["tables"]>[number];
export type Takeover = Schemas["Takeover"];
export type Host = Schemas["Host"];
export type Rescue = Schemas["Rescue"];
export type RescueConflict = Schemas["RescueConflict"];
export type RescueRequest = Schemas["RescueRequest"];
export type TakeoverUsers = Schemas["TakeoverUsers"];

const api = createClient<paths>({ baseUrl: "/api/v1" });

// Problem is the service's problem document.
export class Problem extends Error {
  title: string;
  status: number;
  detail?: string;
  next?: string;
  at?: number;
  constructor(doc: { title?: string; status?: number; detail?: string; next?: string; at?: number }, status: number) {
    super(doc.title ?? "the service answered in a form that is not known");
    this.title = this.message;
    this.status = doc.status ?? status;
    this.detail = doc.detail;
    this.next = doc.next;
    this.at = doc.at;
  }
}

async function answer<T>(call: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  const { data, error, response } = await call.catch(() => {
    throw new Problem({ title: "the service does not answer", next: "Is velvet serve still running?" }, 0);
  });
  if (error !== undefined || !response.ok) throw new Problem((error ?? {}) as object, response.status);
  return data as T;
}

export const queries = new QueryClient({
  defaultOptions: {
    queries: { retry: (n, e) => n < 3 && e instanceof Problem && e.status === 0, staleTime: 2000, refetchOnWindowFocus: true },
  },
});

const minute = 60_000;

export const useClusters = () =>
  useQuery({ queryKey: ["clusters"], queryFn: () => answer(api.GET("/clusters")).then((l) => l ?? []), refetchInterval: minute });
export const useCluster = (cluster: string) =>
  useQuery({
    queryKey: ["cluster", cluster],
    queryFn: () => answer(api.GET("/clusters/{cluster}", { params: { path: { cluster } } })),
    refetchInterval: minute,
  });
export const useBackups = (cluster: string) =>
  useQuery({
    queryKey: ["backups", cluster],
    queryFn: () => answer(api.GET("/clusters/{cluster}/backups", { params: { path: { cluster } } })).then((l) => l ?? []),
  });
export const useBackup = (backup: string) =>
  useQuery({ queryKey: ["backup", backup], queryFn: () => answer(api.GET("/backups/{backup}", { params: { path: { backup } } })) });
export const useBackupContent = (backup: string) =>
  useQuery({
    queryKey: ["content", backup],
    queryFn: () => answer(api.GET("/backups/{backup}/content", { params: { path: { backup } } })),
  });
// useDropLoss asks to drop a backup without confirming it: the refusal says what would be lost.
export const useDropLoss = (backup: string) =>
  useQuery({
    queryKey: ["drop loss", backup],
    retry: false,
    queryFn: () =>
      answer(api.DELETE("/backups/{backup}", { params: { path: { backup }, query: {} } })).then(
        () => "",
        (e: unknown) => {
          if (e instanceof Problem && e.detail) return e.detail;
          throw e;
        },
      ),
  });
export const useDrop = (backup: string) =>
  useMutation({
    mutationFn: (confirm: string) => answer(api.DELETE("/backups/{backup}", { params: { path: { backup }, query: { confirm } } })),
    onSuccess: refresh,
  });
export const useStore = () => useQuery({ queryKey: ["store"], queryFn: () => answer(api.GET("/store")), refetchInterval: minute });
export const useAudit = (task: string) =>
  useQuery({ queryKey: ["audit", task], queryFn: () => answer(api.GET("/store/audits/{task}", { params: { path: { task } } })) });
export const useLookThrough = () =>
  useMutation({ mutationFn: (body: { full: boolean; fix: boolean }) => answer(api.POST("/store/audits", { body })), onSuccess: refresh });
export const useCopies = (cluster: string) =>
  useQuery({
    queryKey: ["copies", cluster],
    queryFn: () => answer(api.GET("/copies", { params: { query: { cluster } } })).then((l) => l ?? []),
  });
export const useCopy = (copy: string) =>
  useQuery({ queryKey: ["copy", copy], queryFn: () => answer(api.GET("/copies/{copy}", { params: { path: { copy } } })) });
export const useHosts = () =>
  useQuery({ queryKey: ["hosts"], queryFn: () => answer(api.GET("/hosts")).then((l) => l ?? []), refetchInterval: minute });
export const useAddHost = () => useMutation({ mutationFn: (name: string) => answer(api.POST("/hosts", { body: { name } })) });
export const useRemoveHost = (host: string) =>
  useMutation({
    mutationFn: (confirm: string) => answer(api.DELETE("/hosts/{host}", { params: { path: { host }, query: { confirm } } })),
    onSuccess: refresh,
  });
export type TaskFilter = {
  active?: boolean;
  cluster?: string;
  kind?: string;
  state?: "waiting" | "running" | "done" | "failed" | "cancelled";
  days?: number;
};
export const useTasks = (filter: TaskFilter) =>
  useQuery({
    queryKey: ["tasks", filter],
    queryFn: () => answer(api.GET("/tasks", { params: { query: { ...filter, limit: 200 } } })).then((l) => l ?? []),
  });
export const useTrail = (filter: { cluster?: string; before?: number }) =>
  useQuery({
    queryKey: ["trail", filter],
    queryFn: () => answer(api.GET("/trail", { params: { query: { ...filter, limit: 100 } } })).then((l) => l ?? []),
    refetchInterval: minute,
  });
export const useTrailCheck = () =>
  useQuery({ queryKey: ["trail check"], queryFn: () => answer(api.GET("/trail/check")), refetchInterval: minute });
export const useRetry = () =>
  useMutation({
    mutationFn: (task: string) => answer(api.POST("/tasks/{task}/retry", { params: { path: { task } } })),
    onSuccess: refresh,
  });
export const useReport = (cluster: string, days: number) =>
  useQuery({
    queryKey: ["backups", "report", cluster, days],
    queryFn: () => answer(api.GET("/reports/backups", { params: { query: { cluster, days } } })).then((l) => l ?? []),
  });

export const useKeep = (cluster: string) =>
  useQuery({ queryKey: ["keep", cluster], queryFn: () => answer(api.GET("/clusters/{cluster}/keep", { params: { path: { cluster } } })) });
export const useKeepPreview = (cluster: string, rule: KeepRule | undefined, asOf: string | undefined) =>
  useQuery({
    queryKey: ["keep", cluster, "preview", rule, asOf],
    retry: false,
    placeholderData: (before, query) => (query?.queryKey[1] === cluster ? before : undefined),
    queryFn: () =>
      answer(api.POST("/clusters/{cluster}/keep/preview", { params: { path: { cluster } }, body: { rule, asOf, measure: true } })),
  });
export const useSetKeep = (cluster: string) =>
  useMutation({
    mutationFn: (body: KeepRule) => answer(api.PUT("/clusters/{cluster}/keep", { params: { path: { cluster } }, body })),
    onSuccess: refresh,
  });
export const useApplyKeep = (cluster: string) =>
  useMutation({
    mutationFn: (body: { token: string; confirm: string }) =>
      answer(api.POST("/clusters/{cluster}/keep/apply", { params: { path: { cluster } }, body })),
    onSuccess: refresh,
  });
export const useUndoKeep = (cluster: string) =>
  useMutation({
    mutationFn: () => answer(api.POST("/clusters/{cluster}/keep/undo", { params: { path: { cluster } } })),
    onSuccess: refresh,
  });
export const usePin = () =>
  useMutation({
    mutationFn: (p: { backup: string; reason: string; until?: string }) =>
      answer(api.PUT("/backups/{backup}/pin", { params: { path: { backup: p.backup } }, body: { reason: p.reason, until: p.until } })),
    onSuccess: refresh,
  });
export const useUnpin = () =>
  useMutation({
    mutationFn: (backup: string) => answer(api.DELETE("/backups/{backup}/pin", { params: { path: { backup } } })),
    onSuccess: refresh,
  });

export const useCalendar = (cluster: string) =>
  useQuery({
    queryKey: ["calendar", cluster],
    queryFn: () => answer(api.GET("/calendar", { params: { query: { cluster } } })).then((l) => l ?? []),
    refetchInterval: minute,
  });
export const useUpcoming = (schedule: Schedule) =>
  useQuery({
    queryKey: ["upcoming", schedule],
    retry: false,
    placeholderData: (before) => before,
    queryFn: () => answer(api.POST("/calendar/preview", { body: { schedule, count: 10 } })),
  });
export type NewEntry = { cluster?: string; policy?: string; work: "backup" | "keep" | "audit"; detail?: string; schedule: Schedule };
export const useAddEntry = () =>
  useMutation({ mutationFn: (body: NewEntry) => answer(api.POST("/calendar", { body })), onSuccess: refresh });
export const usePauseEntry = () =>
  useMutation({
    mutationFn: (p: { entry: string; paused: boolean }) =>
      answer(api.PUT("/calendar/{entry}/paused", { params: { path: { entry: p.entry } }, body: { paused: p.paused } })),
    onSuccess: refresh,
  });
export const useRemoveEntry = () =>
  useMutation({
    mutationFn: (p: { entry: string; confirm: string }) =>
      answer(api.DELETE("/calendar/{entry}", { params: { path: { entry: p.entry }, query: { confirm: p.confirm } } })),
    onSuccess: refresh,
  });
export const usePolicies = () => useQuery({ queryKey: ["policies"], queryFn: () => answer(api.GET("/policies")).then((l) => l ?? []) });

export const useReadiness = (cluster: string) =>
  useQuery({
    queryKey: ["readiness", cluster],
    queryFn: () => answer(api.GET("/clusters/{cluster}/readiness", { params: { path: { cluster } } })),
    staleTime: Infinity,
  });
export const useApplyReadiness = (cluster: string) =>
  useMutation({
    mutationFn: (p: { checks: string[]; as: string; asPassword: string; confirm: string }) =>
      answer(api.POST("/readiness/apply", { body: { cluster, ...p } })),
    onSuccess: (m) => queries.setQueryData(["readiness", cluster], m.report),
  });
export const useTask = (task: string, enabled = true) =>
  useQuery({ queryKey: ["task", task], enabled, queryFn: () => answer(api.GET("/tasks/{task}", { params: { path: { task } } })) });
export const useLines = (task: string) =>
  useQuery({
    queryKey: ["lines", task],
    queryFn: () => answer(api.GET("/tasks/{task}/lines", { params: { path: { task } } })).then((l) => l ?? []),
  });

const refresh = () => void queries.invalidateQueries();

// zone is the viewer's, in which a time without one is read.
const zone = Intl.DateTimeFormat().resolvedOptions().timeZone;

// useMoment resolves a moment. That it is wrong is an answer too, and stays while it is asked
// again; a failed query's error would be gone for that long.
export function useMoment(cluster: string, moment: string): { data?: MomentAnswer; error: Error | null; isPlaceholderData: boolean } {
  const { data, error, isPlaceholderData } = useQuery<{ found?: MomentAnswer; wrong?: Problem }, Error>({
    queryKey: ["moment", cluster, moment],
    retry: false,
    placeholderData: (before, query) => (query?.queryKey[1] === cluster && before?.found ? before : undefined),
    queryFn: () =>
      answer(api.POST("/clusters/{cluster}/moment", { params: { path: { cluster } }, body: { moment, zone, around: 5 } })).then(
        (found) => ({ found }),
        (wrong: Problem) => ({ wrong }),
      ),
  });
  return { data: data?.found, error: data?.wrong ?? error, isPlaceholderData };
}
export const useDeck = (cluster: string, window?: { from: number; to: number }) =>
  useQuery({
    queryKey: ["deck", cluster, window?.from, window?.to],
    refetchInterval: window ? false : 5000,
    placeholderData: (before, query) => (query?.queryKey[1] === cluster ? before : undefined),
    queryFn: () =>
      answer(
        api.GET("/clusters/{cluster}/deck", {
          params: {
            path: { cluster },
            query: window ? { from: new Date(window.from).toISOString(), to: new Date(window.to).toISOString() } : {},
          },
        }),
      ),
  });
export type ChangeQuery = NonNullable<operations["list-changes"]["parameters"]["query"]>;
export const useChanges = (cluster: string, query: ChangeQuery, enabled = true) =>
  useQuery({
    queryKey: ["changes", cluster, query],
    enabled,
    retry: false,
    queryFn: () => answer(api.GET("/clusters/{cluster}/changes", { params: { path: { cluster }, query } })),
  });
export const useChange = (cluster: string, xid: string) =>
  useQuery({
    queryKey: ["change", cluster, xid],
    retry: false,
    queryFn: () => answer(api.GET("/clusters/{cluster}/changes/{xid}", { params: { path: { cluster, xid: Number(xid) } } })),
  });
export const useRows = (cluster: string, xid: number, table: string) =>
  useQuery({
    queryKey: ["rows", cluster, xid, table],
    retry: false,
    queryFn: () =>
      answer(api.GET("/clusters/{cluster}/changes/{xid}/rows", { params: { path: { cluster, xid }, query: { table, limit: 8 } } })),
  });
export const useSettle = (cluster: string) =>
  useMutation({
    mutationFn: ({ xid, like }: { xid: number; like?: boolean }) =>
      answer(api.POST("/clusters/{cluster}/incidents/{xid}/settle", { params: { path: { cluster, xid } }, body: { like } })),
    onSuccess: refresh,
  });

export const useMakeCopy = (cluster: string) =>
  useMutation({
    mutationFn: (body: { moment: string; host?: string; rescue?: boolean }) =>
      answer(api.POST("/clusters/{cluster}/copies", { params: { path: { cluster } }, body })),
    onSuccess: refresh,
  });
export const useTakeBackup = (cluster: string) =>
  useMutation({
    mutationFn: () =>
      answer(api.POST("/clusters/{cluster}/backups", { params: { path: { cluster } }, body: { checkpoint: "fast", kind: "auto" } })),
    onSuccess: refresh,
  });
export const useCapture = (cluster: string) =>
  useMutation({
    mutationFn: (start: boolean) =>
      start
        ? answer(api.POST("/clusters/{cluster}/capture/start", { params: { path: { cluster } } }))
        : answer(api.POST("/clusters/{cluster}/capture/stop", { params: { path: { cluster } } })),
    onSuccess: refresh,
  });
export const useDigest = (days: number) =>
  useQuery({ queryKey: ["digest", days], queryFn: () => answer(api.GET("/rehearsals/digest", { params: { query: { days } } })) });
export const useRehearsals = (days: number) =>
  useQuery({
    queryKey: ["rehearsals", days],
    queryFn: () => answer(api.GET("/rehearsals", { params: { query: { days } } })).then((l) => l ?? []),
  });
export const useRehearse = () =>
  useMutation({
    mutationFn: (cluster: string) => answer(api.POST("/clusters/{cluster}/rehearsals", { params: { path: { cluster } }, body: {} })),
    onSuccess: refresh,
  });
// useProofReport saves a proof's report as a file.
export const useProofReport = (proof: string) =>
  useMutation({
    mutationFn: async () => {
      save(await answer(api.GET("/proofs/{proof}/report", { params: { path: { proof } } })));
    },
  });
// useDigestReport saves what all rehearsals come to as a file.
export const useDigestReport = (days: number) =>
  useMutation({
    mutationFn: async (format: "html" | "csv") => {
      save(await answer(api.GET("/rehearsals/report", { params: { query: { days, format } } })));
    },
  });

function save(r: Schemas["Report"]): void {
  const link = document.createElement("a");
  link.href = URL.createObjectURL(new Blob([r.content], { type: r.type }));
  link.download = r.name;
  link.click();
  URL.revokeObjectURL(link.href);
}

export const useProve = (copy: string) =>
  useMutation({ mutationFn: () => answer(api.POST("/copies/{copy}/proofs", { params: { path: { copy } } })), onSuccess: refresh });
export const useStep = (copy: string) =>
  useMutation({
    mutationFn: (moment: string) => answer(api.POST("/copies/{copy}/step", { params: { path: { copy } }, body: { moment } })),
    onSuccess: refresh,
  });
export const useOpenCopy = (copy: string) =>
  useMutation({ mutationFn: () => answer(api.POST("/copies/{copy}/open", { params: { path: { copy } } })), onSuccess: refresh });
export const useDiscard = (copy: string) =>
  useMutation({
    mutationFn: (confirm: string) => answer(api.DELETE("/copies/{copy}", { params: { path: { copy }, query: { confirm } } })),
    onSuccess: refresh,
  });
// useTakeoverPlan asks what putting a copy in the place of its original would do.
export const useTakeoverPlan = (copy: string) =>
  useQuery({
    queryKey: ["takeover", copy],
    queryFn: () => answer(api.GET("/copies/{copy}/takeover", { params: { path: { copy } } })),
  });
export const useTakeovers = (cluster: string | undefined) =>
  useQuery({
    queryKey: ["takeovers", cluster],
    enabled: cluster !== undefined,
    queryFn: () => answer(api.GET("/clusters/{cluster}/takeovers", { params: { path: { cluster: cluster! } } })).then((l) => l ?? []),
  });
export const useTakeOver = (copy: string) =>
  useMutation({
    mutationFn: (body: { confirm: string; refuseClients?: boolean }) =>
      answer(api.POST("/copies/{copy}/takeover", { params: { path: { copy } }, body })),
    onSuccess: refresh,
  });
export const useRescues = (cluster: string | undefined) =>
  useQuery({
    queryKey: ["rescues", cluster],
    enabled: cluster !== undefined,
    queryFn: () => answer(api.GET("/rescues", { params: { query: { cluster: cluster! } } })).then((l) => l ?? []),
  });
export const useRescueOf = (rescue: string | undefined) =>
  useQuery({
    queryKey: ["rescue", rescue],
    enabled: rescue !== undefined,
    queryFn: () => answer(api.GET("/rescues/{rescue}", { params: { path: { rescue: rescue! } } })),
  });
export const useRescue = (copy: string) =>
  useMutation({
    mutationFn: (body: RescueRequest) => answer(api.POST("/copies/{copy}/rescues", { params: { path: { copy } }, body })),
    onSuccess: refresh,
  });

// scriptOf has the browser keep the SQL of a rescue as a file.
export async function scriptOf(copy: string, body: RescueRequest, name: string): Promise<void> {
  const response = await fetch(`/api/v1/copies/${encodeURIComponent(copy)}/rescues/script`, {
    method: "POST",
    headers: { "Content-Type": "application/json" },
    body: JSON.stringify(body),
  });
  if (!response.ok) throw new Problem(await response.json(), response.status);
  const link = document.createElement("a");
  link.href = URL.createObjectURL(await response.blob());
  link.download = name;
  link.click();
  URL.revokeObjectURL(link.href);
}
export const useCancel = (task: string) =>
  useMutation({ mutationFn: () => answer(api.POST("/tasks/{task}/cancel", { params: { path: { task } } })), onSuccess: refresh });

// enter exchanges the code of a one-time link for a session.
export async function enter(code: string): Promise<void> {
  const response = await fetch("/api/v1/session", { method: "POST", body: JSON.stringify({ code }) });
  if (!response.ok) throw new Problem(await response.json(), response.status);
}

// listen keeps what is shown up to date by the service's events.
// Only a page that is seen listens: a browser has six connections to a service without TLS,
// and as many pages behind others would leave none to ask with.
export function listen(): () => void {
  let source: EventSource | undefined;
  const look = () => {
    if (document.visibilityState === "visible") source ??= open();
    else close();
  };
  const close = () => {
    source?.close();
    source = undefined;
  };
  document.addEventListener("visibilitychange", look);
  window.addEventListener("pagehide", close);
  window.addEventListener("pageshow", look);
  look();
  return () => {
    document.removeEventListener("visibilitychange", look);
    window.removeEventListener("pagehide", close);
    window.removeEventListener("pageshow", look);
    close();
  };
}

function open(): EventSource {
  const source = new EventSource("/api/v1/events");
  const stale = (...keys: string[][]) => keys.forEach((queryKey) => void queries.invalidateQueries({ queryKey }));
  source.addEventListener("task", (e) => stale(["tasks"], ["task", e.data], ["lines", e.data], ["store"], ["takeover"], ["takeovers"]));
  source.addEventListener("cluster", () => stale(["clusters"], ["cluster"], ["backups"], ["keep"], ["calendar"], ["moment"], ["store"]));
  source.addEventListener("copy", (e) => stale(["copies"], ["copy", e.data], ["clusters"], ["hosts"]));
  source.addEventListener("host", () => stale(["hosts"], ["copies"], ["copy"]));
  source.onopen = refresh; // whatever happened while it was closed
  return source;
}
