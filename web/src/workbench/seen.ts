import { asFields, type Fields, type Json, type Workflow } from "../api/client";
import type { Edit } from "../api/draft";
import { find } from "./lines";

const at = (fields: Fields, path: string[]): Json | undefined =>
  path.reduce<Json | undefined>((v, k) => asFields(v)[k], fields);

/**
 * What stands in the draft, as it is known here, where an edit of a setting is made: so that the service can
 * tell whether somebody else was there in between. Undefined where it is not known.
 */
export function seenBy(workflow: Workflow, e: Edit): { value?: Json } | undefined {
  const [head = "", ...rest] = (e.key ?? "").split(".");
  const seen = (v: Json | undefined) => (v === undefined || v === null ? {} : { value: v });
  if (e.op === "trigger")
    return head === "settings" ? seen(at(asFields(workflow.trigger_settings), rest)) : undefined;
  if (e.op !== "set") return undefined;
  if (e.step === undefined) return head === "title" ? seen(workflow.title) : undefined;
  const line = find(workflow.lines, e.step);
  if (!line) return undefined;
  if (line.kind === "case")
    return head === "when" ? seen(at(asFields(line.settings), [head, ...rest])) : undefined;
  if (head === "settings" || head === "input") return seen(at(asFields(line.settings), rest));
  if (head === "connection") return seen(line.connection);
  if (head === "note") return seen(line.note);
  if (head === "off") return seen(line.off === true ? true : undefined);
  return seen(at(asFields(line.options), [head, ...rest]));
}
