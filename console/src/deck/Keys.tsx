import { Dialog } from "radix-ui";

const keys: [string, string][] = [
  ["← →", "one transaction back or forward"],
  ["Shift ← →", "to the incident before or after"],
  ["+ −", "look closer or from further away"],
  ["Home End", "the ends of the reach"],
  ["L", "follow live, all of the reach"],
  ["/", "the moment field"],
  ["?", "this list"],
];

// Keys lists what the keyboard does on the deck.
export function Keys({ open, onClose }: { open: boolean; onClose: () => void }) {
  return (
    <Dialog.Root open={open} onOpenChange={(o) => !o && onClose()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 bg-black/50" />
        <Dialog.Content
          aria-describedby={undefined}
          className="fixed left-1/2 top-1/3 w-96 -translate-x-1/2 -translate-y-1/3 border border-line bg-raised p-5"
        >
          <Dialog.Title className="text-lg font-bold">Keys</Dialog.Title>
          <dl className="mt-3 grid grid-cols-[max-content_1fr] gap-x-6 gap-y-1">
            {keys.map(([key, does]) => (
              <div key={key} className="contents">
                <dt className="mono">{key}</dt>
                <dd>{does}</dd>
              </div>
            ))}
          </dl>
          <Dialog.Close className="button mt-4">Close</Dialog.Close>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
