import { QueryClientProvider } from "@tanstack/react-query";
import { RouterProvider } from "@tanstack/react-router";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { enter, Problem, queries } from "./api";
import { SignIn } from "./pages/SignIn";
import { makeRouter } from "./routes";
import "./theme.css";

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
        <RouterProvider router={makeRouter()} />
      </QueryClientProvider>
    </StrictMode>,
  );
}

// A link opened in this very tab changes only what is after the "#".
window.addEventListener("hashchange", () => {
  if (location.hash.startsWith("#enter=")) location.reload();
});
void begin();
