import { when } from "../format";

// Time writes a time in the viewer's zone, with UTC on hover.
export function Time({ at, none = "not yet" }: { at?: string; none?: string }) {
  if (!at) return <span className="text-soft">{none}</span>;
  return (
    <time dateTime={at} title={`${at.replace("T", " ").replace("Z", "")} UTC`} className="whitespace-nowrap">
      {when(at)}
    </time>
  );
}
