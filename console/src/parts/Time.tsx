import { when } from "../format";

// Time writes a time in the viewer's zone, which stands at the head of the page; UTC on hover.
export function Time({ at, exact, none = "not yet" }: { at?: string; exact?: boolean; none?: string }) {
  if (!at) return <span className="text-soft">{none}</span>;
  return (
    <time dateTime={at} title={`${at.replace("T", " ").replace("Z", "")} UTC`} className="whitespace-nowrap">
      {when(at, exact)}
    </time>
  );
}
