import { Link } from "@tanstack/react-router";

// ClusterTabs leads between the pages about one cluster.
export function ClusterTabs({ cluster }: { cluster: string }) {
  const params = { cluster };
  const look = "text-soft no-underline border-b-2 border-transparent pb-1 [&.active]:border-velvet [&.active]:text-ink";
  return (
    <nav aria-label={`Pages of ${cluster}`} className="mb-3 flex gap-5">
      <Link to="/clusters/$cluster" params={params} activeOptions={{ exact: true, includeSearch: false }} className={look}>
        {cluster}
      </Link>
      <Link to="/clusters/$cluster/keep" params={params} className={look}>
        Keep
      </Link>
      <Link to="/clusters/$cluster/calendar" params={params} className={look}>
        Calendar
      </Link>
      <Link to="/clusters/$cluster/readiness" params={params} className={look}>
        Readiness
      </Link>
    </nav>
  );
}
