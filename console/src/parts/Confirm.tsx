import { Dialog } from "radix-ui";
import { useState } from "react";
import { Trouble } from "./Trouble";

// Confirm asks to type a name before something is lost.
export function Confirm(p: {
  label: string;
  title: string;
  loss: string;
  name: string;
  busy: boolean;
  error: Error | null;
  onConfirm: (typed: string) => void;
}) {
  const [typed, setTyped] = useState("");
  return (
    <Dialog.Root onOpenChange={() => setTyped("")}>
      <Dialog.Trigger className="button destructive">{p.label}</Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 bg-black/50" />
        <Dialog.Content className="fixed left-1/2 top-1/3 w-[34rem] max-w-[92vw] -translate-x-1/2 border border-line bg-raised p-5">
          <Dialog.Title asChild>
            <h2>{p.title}</h2>
          </Dialog.Title>
          <Dialog.Description className="my-3">{p.loss}</Dialog.Description>
          <form
            onSubmit={(e) => {
              e.preventDefault();
              if (typed === p.name) p.onConfirm(typed);
            }}
          >
            <label className="block text-soft">
              Type <code className="text-ink">{p.name}</code> to go on
              <input className="field mono mt-1" autoFocus value={typed} onChange={(e) => setTyped(e.target.value)} />
            </label>
            {p.error && <Trouble error={p.error} />}
            <div className="mt-4 flex gap-3 justify-end">
              <Dialog.Close className="button" type="button">
                Keep it
              </Dialog.Close>
              <button className="button destructive" disabled={typed !== p.name || p.busy}>
                {p.label}
              </button>
            </div>
          </form>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
