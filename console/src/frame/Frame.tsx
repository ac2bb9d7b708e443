import { Link, Outlet } from "@tanstack/react-router";
import { useEffect, useState } from "react";
import { listen, useClusters } from "../api";
import { zone } from "../format";
import { ReachStrip } from "../parts/ReachStrip";
import { rank } from "../pages/fleet";
import { TaskStrip } from "./TaskStrip";

type Theme = "system" | "light" | "dark";
const themes: Theme[] = ["system", "light", "dark"];

function useTheme(): [Theme, () => void] {
  const [theme, setTheme] = useState<Theme>(() => (localStorage.getItem("theme") as Theme | null) ?? "system");
  useEffect(() => {
    localStorage.setItem("theme", theme);
    if (theme === "system") delete document.documentElement.dataset.theme;
    else document.documentElement.dataset.theme = theme;
  }, [theme]);
  return [theme, () => setTheme(themes[(themes.indexOf(theme) + 1) % themes.length] ?? "system")];
}

const mostListed = 12;

// Frame is what every page stands in: the clusters at the left, running tasks along the bottom.
export function Frame() {
  const clusters = useClusters();
  const all = clusters.data ?? [];
  // Of many clusters only as many as fit, those that need attention first.
  const listed = all.length <= mostListed ? all : [...all].sort((a, b) => rank(b) - rank(a)).slice(0, mostListed);
  const needing = all.filter((c) => rank(c) > 0).length;
  const [theme, turn] = useTheme();
  const [unfolded, setUnfolded] = useState(false); // on a phone, where the bar at the left is one line
  useEffect(listen, []);
  return (
    <div className="flex min-h-screen flex-col">
      <a href="#page" className="sr-only focus:not-sr-only">
        Skip to the page
      </a>
      <div className="flex flex-1 max-md:flex-col">
        <nav aria-label="Clusters" className="side">
          <div className="mb-5 flex items-baseline justify-between max-md:mb-0">
            <Link to="/" className="text-lg font-bold text-ink no-underline">
              <span aria-hidden className="text-velvet">
                ◂◂{" "}
              </span>
              Velvet Rewind
            </Link>
            <button className="button md:hidden" aria-expanded={unfolded} onClick={() => setUnfolded(!unfolded)}>
              {unfolded ? "Close" : needing > 0 ? `Clusters ▲ ${needing}` : "Clusters"}
            </button>
          </div>
          <div className={`flex grow flex-col ${unfolded ? "max-md:mt-3" : "max-md:hidden"}`} onClick={() => setUnfolded(false)}>
            <ul className="space-y-3">
              {listed.map((c) => (
                <li key={c.id}>
                  <Link to="/clusters/$cluster" params={{ cluster: c.name }} className="block text-ink no-underline [&.active]:font-bold">
                    <span className="flex justify-between">
                      {c.name}
                      {rank(c) > 0 && (
                        <span className="text-undone" title={(c.needs ?? [])[0]?.text} role="img" aria-label="needs attention">
                          ▲
                        </span>
                      )}
                    </span>
                    <ReachStrip cluster={c} />
                  </Link>
                </li>
              ))}
              {all.length > listed.length && (
                <li>
                  <Link to="/">all {all.length} clusters</Link>
                </li>
              )}
            </ul>
            <ul className="mt-6 space-y-2 border-t border-line pt-4">
              <li>
                <Link to="/calendar" className="text-ink no-underline [&.active]:font-bold">
                  Calendar
                </Link>
              </li>
              <li>
                <Link to="/rehearsals" className="text-ink no-underline [&.active]:font-bold">
                  Rehearsals
                </Link>
              </li>
              <li>
                <Link to="/store" className="text-ink no-underline [&.active]:font-bold">
                  Store
                </Link>
              </li>
              <li>
                <Link to="/hosts" className="text-ink no-underline [&.active]:font-bold">
                  Hosts
                </Link>
              </li>
              <li>
                <Link to="/tasks" className="text-ink no-underline [&.active]:font-bold">
                  Tasks
                </Link>
              </li>
              <li>
                <Link to="/trail" className="text-ink no-underline [&.active]:font-bold">
                  Trail
                </Link>
              </li>
            </ul>
            <button className="button mt-auto self-start text-soft max-md:mt-3" onClick={turn}>
              Colours: {theme}
            </button>
          </div>
        </nav>
        <main id="page" className="min-w-0 flex-1 px-8 py-5 pb-16 max-md:px-4">
          <p className="-mt-3 text-right text-soft max-md:mt-0">times in {zone()}</p>
          <Outlet />
        </main>
      </div>
      <TaskStrip />
    </div>
  );
}
