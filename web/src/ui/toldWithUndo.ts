import { toast } from "sonner";

/** Tells what was done, with a way back. */
export function toldWithUndo(words: string, undo: () => void) {
  toast(words, { action: { label: "Undo", onClick: undo } });
}
