import { QueryClientProvider } from "@tanstack/react-query";
import { createRootRoute, createRoute, createRouter, RouterProvider } from "@tanstack/react-router";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { enter, Problem, queries } from "./api";
import { Frame } from "./frame/Frame";
import { ClusterPage } from "./pages/Cluster";
import { Clusters } from "./pages/Clusters";
import { CopyPage } from "./pages/CopyPage";
import { SignIn } from "./pages/SignIn";
import { TaskList, TaskPage } from "./pages/TaskPages";
import "./theme.css";

const root = createRootRoute();
const frame = createRoute({ getParentRoute: () => root, id: "frame", component: Frame });
const routes = [
  createRoute({ getParentRoute: () => frame, path: "/", component: Clusters }),
  createRoute({
    getParentRoute: () => frame,
    path: "/clusters/$cluster",
    component: ClusterPage,
    validateSearch: (s: Record<string, unknown>): { moment?: string; from?: number; to?: number } => ({
      ...(typeof s.moment === "string" ? { moment: s.moment } : {}),
      ...(typeof s.from === "number" && typeof s.to === "number" ? { from: s.from, to: s.to } : {}),
    }),
  }),
  createRoute({ getParentRoute: () => frame, path: "/copies/$copy", component: CopyPage }),
  createRoute({ getParentRoute: () => frame, path: "/tasks", component: TaskList }),
  createRoute({ getParentRoute: () => frame, path: "/tasks/$task", component: TaskPage }),
] as const;
const router = createRouter({ routeTree: root.addChildren([frame.addChildren(routes)]) });

declare module "@tanstack/react-router" {
  interface Register {
    router: typeof router;
  }
}

// begin takes the code out of a one-time link, so that it stays in no history, and
// finds out whether the browser is signed in.
async function begin() {
  const page = createRoot(document.getElementById("root")!);
  const code = /^#enter=(\w+)$/.exec(location.hash)?.[1];
  if (code) {
    history.replaceState(null, "", "/");
    try {
      await enter(code);
    } catch (e) {
      page.render(<SignIn why={e instanceof Problem ? (e.detail ?? e.title) : String(e)} />);
      return;
    }
  }
  const check = await fetch("/api/v1/tasks?limit=1");
  if (check.status === 401) {
    page.render(<SignIn />);
    return;
  }
  page.render(
    <StrictMode>
      <QueryClientProvider client={queries}>
        <RouterProvider router={router} />
      </QueryClientProvider>
    </StrictMode>,
  );
}

// A link opened in this very tab changes only what is behind the "#".
window.addEventListener("hashchange", () => {
  if (location.hash.startsWith("#enter=")) location.reload();
});
void begin();
