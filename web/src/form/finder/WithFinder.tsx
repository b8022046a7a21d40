import { TextSearch } from "lucide-react";
import { Popover } from "radix-ui";
import type { ReactNode } from "react";
import { useValues } from "../values";
import { Finder } from "./Finder";

interface Props {
  label: string;
  open: boolean;
  onOpen: (open: boolean) => void;
  onUse: (expression: string) => void;
  onClosed: () => void; // the cursor goes back
  children: ReactNode; // the field
}

/** A field with the finder beside it, where there are values to find. */
export function WithFinder({ label, open, onOpen, onUse, onClosed, children }: Props) {
  const values = useValues();
  const close = () => {
    onOpen(false);
  };
  return (
    <Popover.Root open={open} onOpenChange={onOpen}>
      <Popover.Anchor asChild>
        <div className={`relative ${values ? "with-finder" : ""}`}>
          {children}
          {values && (
            <Popover.Trigger
              className="absolute top-1 right-1 rounded p-1 text-third hover:bg-tint hover:text-leafink"
              aria-label={`Find a value for ${label}`}
              title="Find a value (Ctrl+Space)"
            >
              <TextSearch size={15} />
            </Popover.Trigger>
          )}
        </div>
      </Popover.Anchor>
      <Popover.Portal>
        <Popover.Content
          align="start"
          sideOffset={4}
          collisionPadding={8}
          className="card z-50 w-[640px] max-w-[94vw] shadow-xl"
          aria-label="Find a value"
          onCloseAutoFocus={(e) => {
            e.preventDefault();
            onClosed();
          }}
        >
          <Finder
            label={label}
            onUse={(path) => {
              close();
              onUse(path);
            }}
            onClose={close}
          />
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}
