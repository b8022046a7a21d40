import { asFields, type Fields, type Line, type Rehearsal, type Workflow } from "../api/client";
import type { Source } from "../form/finder/paths";
import { ownerAt } from "../lattice/address";
import { itemBefore } from "./itemBefore";
import { isCase, stepsIn, TOP } from "./lines";

/** Where a line stands among the columns of the rows; it has none of its own before it was rehearsed. */
interface Stand {
  column: number; // its own, or that in which its items end
  own: boolean;
}

const columnOf = (seen: Rehearsal, name: string) => seen.columns.findIndex((c) => c.name === name);

function standOf(seen: Rehearsal, workflow: Workflow, line: Line): Stand {
  const at = columnOf(seen, line.name);
  if (at >= 0) return { column: at, own: true };
  const beside = stepsIn(workflow.lines, line.in ?? TOP);
  const before = beside[beside.indexOf(line) - 1];
  if (before) return { column: columnOf(seen, before.name), own: false };
  const owner = columnOf(seen, (line.in ?? "").split("/")[0] ?? "");
  return owner >= 0 ? { column: owner, own: true } : { column: -1, own: false };
}

/** The items that come to a line, with the row in which each is shown; each once. */
export function itemsAt(seen: Rehearsal, workflow: Workflow, line: Line): { row: number; item: Fields }[] {
  const { column, own } = standOf(seen, workflow, line);
  const known = new Set<string>();
  return seen.rows.flatMap((r, row) => {
    const cell = r.cells[column];
    const came = column < 0 || (own ? cell && cell.fate !== "not_reached" : cell?.fields !== undefined);
    if (!came) return [];
    const owner = ownerAt(r.address, seen.columns, own ? column - 1 : column);
    if (known.has(owner)) return [];
    const item = own
      ? itemBefore(seen, row, column)
      : column < 0
        ? itemBefore(seen, row, 0)
        : asFields(cell?.fields);
    if (item === undefined) return [];
    known.add(owner);
    return [{ row, item }];
  });
}

/** What the expressions of a line can read: its items, what earlier lines gave, what started the run. */
export function sourcesOf(
  seen: Rehearsal | undefined,
  workflow: Workflow,
  line: Line | undefined,
  row: number,
  triggers: Fields[],
): Source[] {
  const started: Source = {
    prefix: "trigger",
    title: "What started it",
    rows: triggers,
    chosen: triggers[0],
  };
  const vars = asFields(workflow.vars);
  const fixed: Source[] =
    Object.keys(vars).length > 0
      ? [{ prefix: "vars", title: "Vars of the workflow", rows: [vars], chosen: vars }]
      : [];
  if (!line) return [{ ...started, prefix: "item", title: "What arrives" }, ...fixed];
  const first = line === workflow.lines[0];
  if (!seen)
    return first ? [{ ...started, prefix: "item", title: "This item" }, ...fixed] : [started, ...fixed];
  const items = itemsAt(seen, workflow, line);
  const own: Source = {
    prefix: "item",
    title: "This item",
    rows: items.map((x) => x.item),
    chosen: (items.find((x) => x.row === row) ?? items.findLast((x) => x.row <= row) ?? items[0])?.item,
  };
  const earlier = workflow.lines
    .slice(0, workflow.lines.indexOf(line))
    .filter((l) => !isCase(l) && l.name !== line.in?.split("/")[0])
    .reverse()
    .flatMap((l) => gaveOf(seen, l, row));
  return [own, ...earlier, started, ...fixed];
}

function gaveOf(seen: Rehearsal, l: Line, row: number): Source[] {
  const column = columnOf(seen, l.name);
  if (column < 0) return [];
  const known = new Set<string>();
  const rows = seen.rows.flatMap((r) => {
    const owner = ownerAt(r.address, seen.columns, column);
    const fields = r.cells[column]?.fields;
    if (fields === undefined || known.has(owner)) return [];
    known.add(owner);
    return [asFields(fields)];
  });
  const chosen = seen.rows[row]?.cells[column]?.fields;
  return rows.length === 0
    ? []
    : [
        {
          prefix: `steps.${l.name}`,
          title: `Line ${l.number ?? ""}: ${l.sentence}`,
          rows,
          chosen: chosen === undefined ? rows[0] : asFields(chosen),
        },
      ];
}
