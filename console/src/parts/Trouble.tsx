import { Problem } from "../api";

// Trouble shows an error: what, why, and what to do next.
export function Trouble({ error }: { error: Error }) {
  const p = error instanceof Problem ? error : undefined;
  return (
    <div role="alert" className="border-l-4 border-undone bg-raised px-3 py-2 my-2">
      <p className="font-bold">✕ {p?.title ?? error.message}</p>
      {p?.detail && <p>{p.detail}</p>}
      {p?.next && <p className="text-soft whitespace-pre-line">{p.next}</p>}
    </div>
  );
}

// Waiting says in words what is being waited for.
export function Waiting({ what }: { what: string }) {
  return <p className="text-soft py-4">Reading {what} …</p>;
}
