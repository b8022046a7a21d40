import { toast } from "sonner";
import type { Schemas } from "../api/client";

/** Says what a start by hand has started, where that is not the one run that is shown then. */
export function tellStarted({ runs }: Schemas["Started"]) {
  if (runs === 0) toast("Its key has started this run already; nothing further was started.");
  if (runs > 1) toast(`${String(runs)} runs were started; this is the first of them.`);
}
