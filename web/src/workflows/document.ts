import type { Json } from "../api/client";
import { writeJson } from "../api/exact";
import { plainName } from "../ui/names";

/** The name that a title gives a workflow: small letters, digits and hyphens. */
export const slug = (title: string) => plainName(title, "-").slice(0, 50).replace(/-+$/, "");

/** The document of a new workflow, as JSON (which YAML holds). */
export const documentOf = (title: string, trigger: string, steps: { [key: string]: Json }[]): string =>
  `format: young-trellis/1\nname: ${slug(title) || "workflow"}\ntitle: ${writeJson(title)}\ntrigger:\n  type: ${trigger}\nsteps: ${writeJson(steps)}\n`;
