import { Dialog } from "radix-ui";
import type { ReactNode } from "react";

/** A dialog's sheet. */
export function Frame({
  title,
  wide = false,
  children,
}: {
  title: string;
  wide?: boolean;
  children: ReactNode;
}) {
  return (
    <Dialog.Portal>
      <Dialog.Overlay className="fixed inset-0 bg-black/20" />
      <Dialog.Content
        className={`card fixed top-[7vh] left-1/2 z-40 max-h-[86vh] ${wide ? "w-[760px]" : "w-[520px]"} max-w-[94vw] -translate-x-1/2 overflow-auto p-6 shadow-xl`}
        aria-describedby={undefined}
      >
        <Dialog.Title className="mb-4 font-serif text-[18px] font-semibold">{title}</Dialog.Title>
        {children}
      </Dialog.Content>
    </Dialog.Portal>
  );
}
