// The API, its types made from the service's own description, and its errors.
import { QueryClient, useMutation, useQuery } from "@tanstack/react-query";
import createClient from "openapi-fetch";
import type { components, paths } from "./schema";

type Schemas = components["schemas"];
export type Cluster = Schemas["Cluster"];
export type Backup = Schemas["Backup"];
export type Copy = Schemas["Copy"];
export type Proof = Schemas["Proof"];
export type Task = Schemas["Task"];
export type Line = Schemas["Line"];
export type Plan = Schemas["Restore"];
export type Deck = Schemas["Deck"];
export type Rate = Schemas["Rate"];
export type Incident = Schemas["Incident"];
export type MomentAnswer = Schemas["Moment"];
export type Transaction = Schemas["Transaction"];
export type TableChange = Schemas["TableChange"];

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
  defaultOptions: { queries: { retry: (n, e) => n < 3 && e instanceof Problem && e.status === 0, staleTime: 2000, refetchOnWindowFocus: true } },
});

const minute = 60_000;

export const useClusters = () =>
  useQuery({ queryKey: ["clusters"], queryFn: () => answer(api.GET("/clusters")).then((l) => l ?? []), refetchInterval: minute });
export const useCluster = (cluster: string) =>
  useQuery({ queryKey: ["cluster", cluster], queryFn: () => answer(api.GET("/clusters/{cluster}", { params: { path: { cluster } } })), refetchInterval: minute });
export const useBackups = (cluster: string) =>
  useQuery({ queryKey: ["backups", cluster], queryFn: () => answer(api.GET("/clusters/{cluster}/backups", { params: { path: { cluster } } })).then((l) => l ?? []) });
export const useCopies = (cluster: string) =>
  useQuery({ queryKey: ["copies", cluster], queryFn: () => answer(api.GET("/copies", { params: { query: { cluster } } })).then((l) => l ?? []) });
export const useCopy = (copy: string) =>
  useQuery({ queryKey: ["copy", copy], queryFn: () => answer(api.GET("/copies/{copy}", { params: { path: { copy } } })) });
export const useTasks = (active: boolean) =>
  useQuery({ queryKey: ["tasks", active], queryFn: () => answer(api.GET("/tasks", { params: { query: { active, limit: 100 } } })).then((l) => l ?? []) });
export const useTask = (task: string, enabled = true) =>
  useQuery({ queryKey: ["task", task], enabled, queryFn: () => answer(api.GET("/tasks/{task}", { params: { path: { task } } })) });
export const useLines = (task: string) =>
  useQuery({ queryKey: ["lines", task], queryFn: () => answer(api.GET("/tasks/{task}/lines", { params: { path: { task } } })).then((l) => l ?? []) });

const refresh = () => void queries.invalidateQueries();

// zone is the viewer's, in which a time without one is read.
const zone = Intl.DateTimeFormat().resolvedOptions().timeZone;

export const useMoment = (cluster: string, moment: string) =>
  useQuery({
    queryKey: ["moment", cluster, moment],
    retry: false,
    placeholderData: (before, query) => (query?.queryKey[1] === cluster ? before : undefined),
    queryFn: () => answer(api.POST("/clusters/{cluster}/moment", { params: { path: { cluster } }, body: { moment, zone, around: 5 } })),
  });
export const useDeck = (cluster: string, window?: { from: number; to: number }) =>
  useQuery({
    queryKey: ["deck", cluster, window?.from, window?.to],
    refetchInterval: window ? false : 5000,
    placeholderData: (before, query) => (query?.queryKey[1] === cluster ? before : undefined),
    queryFn: () =>
      answer(
        api.GET("/clusters/{cluster}/deck", {
          params: { path: { cluster }, query: window ? { from: new Date(window.from).toISOString(), to: new Date(window.to).toISOString() } : {} },
        }),
      ),
  });
export const useSettle = (cluster: string) =>
  useMutation({ mutationFn: (xid: number) => answer(api.POST("/clusters/{cluster}/incidents/{xid}/settle", { params: { path: { cluster, xid } } })), onSuccess: refresh });

export const useMakeCopy = (cluster: string) =>
  useMutation({ mutationFn: (moment: string) => answer(api.POST("/clusters/{cluster}/copies", { params: { path: { cluster } }, body: { moment } })), onSuccess: refresh });
export const useTakeBackup = (cluster: string) =>
  useMutation({ mutationFn: () => answer(api.POST("/clusters/{cluster}/backups", { params: { path: { cluster } }, body: { fast: true } })), onSuccess: refresh });
export const useCapture = (cluster: string) =>
  useMutation({
    mutationFn: (start: boolean) =>
      start
        ? answer(api.POST("/clusters/{cluster}/capture/start", { params: { path: { cluster } } }))
        : answer(api.POST("/clusters/{cluster}/capture/stop", { params: { path: { cluster } } })),
    onSuccess: refresh,
  });
export const useProve = (copy: string) =>
  useMutation({ mutationFn: () => answer(api.POST("/copies/{copy}/proofs", { params: { path: { copy } } })), onSuccess: refresh });
export const useOpenCopy = (copy: string) =>
  useMutation({ mutationFn: () => answer(api.POST("/copies/{copy}/open", { params: { path: { copy } } })), onSuccess: refresh });
export const useDiscard = (copy: string) =>
  useMutation({ mutationFn: (confirm: string) => answer(api.DELETE("/copies/{copy}", { params: { path: { copy }, query: { confirm } } })), onSuccess: refresh });
export const useCancel = (task: string) =>
  useMutation({ mutationFn: () => answer(api.POST("/tasks/{task}/cancel", { params: { path: { task } } })), onSuccess: refresh });

// enter exchanges the code of a one-time link for a session.
export async function enter(code: string): Promise<void> {
  const response = await fetch("/api/v1/session", { method: "POST", body: JSON.stringify({ code }) });
  if (!response.ok) throw new Problem(await response.json(), response.status);
}

// listen keeps what is shown up to date by the service's events.
export function listen(): () => void {
  const source = new EventSource("/api/v1/events");
  const stale = (...keys: string[][]) => keys.forEach((queryKey) => void queries.invalidateQueries({ queryKey }));
  source.addEventListener("task", (e) => stale(["tasks"], ["task", e.data], ["lines", e.data]));
  source.addEventListener("cluster", () => stale(["clusters"], ["cluster"], ["backups"], ["moment"]));
  source.addEventListener("copy", (e) => stale(["copies"], ["copy", e.data], ["clusters"]));
  source.onopen = refresh; // whatever happened while it was closed
  return () => source.close();
}
