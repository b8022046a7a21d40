import type { Json } from "../api/client";
import { writeJson } from "../api/exact";

/** The name that a title gives a workflow: small letters, digits and hyphens. */
export const slug = (title: string) =>
  title
    .toLowerCase()
    .normalize("NFKD")
    .replace(/[\u0300-\u036f]/g, "")
    .replace(/[^a-z0-9]+/g, "-")
    .replace(/^[^a-z]+|-+$/g, "")
    .slice(0, 50)
    .replace(/-+$/, "");

/** The document of a new workflow, as JSON (which YAML holds). */
export const documentOf = (title: string, trigger: string, steps: { [key: string]: Json }[]): string =>
  `format: young-trellis/1\nname: ${slug(title) || "workflow"}\ntitle: ${writeJson(title)}\ntrigger:\n  type: ${trigger}\nsteps: ${writeJson(steps)}\n`;
