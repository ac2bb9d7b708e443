// The console's pages and their addresses.
import { createRootRoute, createRoute, createRouter, type RouterHistory } from "@tanstack/react-router";
import type { TaskFilter } from "./api";
import { Frame } from "./frame/Frame";
import { BackupPage } from "./pages/BackupPage";
import { CalendarPage, ClusterCalendar } from "./pages/CalendarPage";
import { ClusterPage, type DeckSearch } from "./pages/Cluster";
import { Clusters } from "./pages/Clusters";
import { CopyPage } from "./pages/CopyPage";
import type { Sort } from "./pages/fleet";
import { HostsPage } from "./pages/HostsPage";
import { IncidentPage } from "./pages/IncidentPage";
import { KeepPage } from "./pages/KeepPage";
import { ReadinessPage } from "./pages/ReadinessPage";
import { ReportPage, type ReportSearch } from "./pages/ReportPage";
import { RehearsalsPage, type RehearsalsSearch } from "./pages/RehearsalsPage";
import { StorePage } from "./pages/StorePage";
import { RescuePage } from "./pages/RescuePage";
import { TakeoverPage } from "./pages/TakeoverPage";
import { TrailPage, type TrailSearch } from "./pages/TrailPage";
import { TaskList, TaskPage } from "./pages/TaskPages";

const root = createRootRoute();
const frame = createRoute({ getParentRoute: () => root, id: "frame", component: Frame });
const routes = [
  createRoute({
    getParentRoute: () => frame,
    path: "/",
    component: Clusters,
    validateSearch: (s: Record<string, unknown>): { q?: string; sort?: Sort; attention?: boolean } => ({
      ...(typeof s.q === "string" ? { q: s.q } : {}),
      ...(typeof s.sort === "string" && ["needs", "name", "reach", "promise", "lag", "base", "proof"].includes(s.sort)
        ? { sort: s.sort as Sort }
        : {}),
      ...(s.attention === true ? { attention: true } : {}),
    }),
  }),
  createRoute({
    getParentRoute: () => frame,
    path: "/clusters/$cluster/keep",
    component: KeepPage,
    validateSearch: (s: Record<string, unknown>): { asOf?: string } => (typeof s.asOf === "string" ? { asOf: s.asOf } : {}),
  }),
  createRoute({ getParentRoute: () => frame, path: "/clusters/$cluster/calendar", component: ClusterCalendar }),
  createRoute({ getParentRoute: () => frame, path: "/clusters/$cluster/incidents/$xid", component: IncidentPage }),
  createRoute({ getParentRoute: () => frame, path: "/clusters/$cluster/readiness", component: ReadinessPage }),
  createRoute({ getParentRoute: () => frame, path: "/calendar", component: () => <CalendarPage /> }),
  createRoute({
    getParentRoute: () => frame,
    path: "/rehearsals",
    component: RehearsalsPage,
    validateSearch: (s: Record<string, unknown>): RehearsalsSearch => ({
      ...(typeof s.days === "number" && s.days > 0 ? { days: s.days } : {}),
      ...(typeof s.q === "string" && s.q ? { q: s.q } : {}),
    }),
  }),
  createRoute({
    getParentRoute: () => frame,
    path: "/reports",
    component: ReportPage,
    validateSearch: (s: Record<string, unknown>): ReportSearch => ({
      ...(typeof s.cluster === "string" && s.cluster ? { cluster: s.cluster } : {}),
      ...(typeof s.days === "number" && s.days > 0 ? { days: s.days } : {}),
      ...(typeof s.sort === "string" && ["stoppedAt", "seconds", "bytesRead", "bytesStored"].includes(s.sort)
        ? { sort: s.sort as ReportSearch["sort"] }
        : {}),
    }),
  }),
  createRoute({
    getParentRoute: () => frame,
    path: "/clusters/$cluster",
    component: ClusterPage,
    validateSearch: (s: Record<string, unknown>): DeckSearch => ({
      ...(typeof s.moment === "string" ? { moment: s.moment } : {}),
      ...(typeof s.kind === "string" && s.kind ? { kind: s.kind } : {}),
      ...(typeof s.table === "string" && s.table ? { table: s.table } : {}),
      ...(typeof s.rows === "number" && s.rows > 0 ? { rows: s.rows } : {}),
      ...(typeof s.by === "string" && s.by ? { by: s.by } : {}),
      ...(typeof s.from === "number" && typeof s.to === "number" ? { from: s.from, to: s.to } : {}),
    }),
  }),
  createRoute({ getParentRoute: () => frame, path: "/copies/$copy", component: CopyPage }),
  createRoute({ getParentRoute: () => frame, path: "/copies/$copy/takeover", component: TakeoverPage }),
  createRoute({ getParentRoute: () => frame, path: "/copies/$copy/rescue", component: RescuePage }),
  createRoute({ getParentRoute: () => frame, path: "/backups/$backup", component: BackupPage }),
  createRoute({ getParentRoute: () => frame, path: "/hosts", component: HostsPage }),
  createRoute({ getParentRoute: () => frame, path: "/store", component: StorePage }),
  createRoute({
    getParentRoute: () => frame,
    path: "/tasks",
    component: TaskList,
    validateSearch: (s: Record<string, unknown>): TaskFilter => ({
      ...(typeof s.cluster === "string" && s.cluster ? { cluster: s.cluster } : {}),
      ...(typeof s.kind === "string" && s.kind ? { kind: s.kind } : {}),
      ...(typeof s.state === "string" && ["waiting", "running", "done", "failed", "cancelled"].includes(s.state)
        ? { state: s.state as TaskFilter["state"] }
        : {}),
    }),
  }),
  createRoute({ getParentRoute: () => frame, path: "/tasks/$task", component: TaskPage }),
  createRoute({
    getParentRoute: () => frame,
    path: "/trail",
    component: TrailPage,
    validateSearch: (s: Record<string, unknown>): TrailSearch => ({
      ...(typeof s.cluster === "string" && s.cluster ? { cluster: s.cluster } : {}),
      ...(typeof s.before === "number" && s.before > 0 ? { before: s.before } : {}),
    }),
  }),
] as const;
const tree = root.addChildren([frame.addChildren(routes)]);

// makeRouter makes the console's router, over the browser's history if no other is given.
export const makeRouter = (history?: RouterHistory) => createRouter({ routeTree: tree, history });

declare module "@tanstack/react-router" {
  interface Register {
    router: ReturnType<typeof makeRouter>;
  }
}
