import { Plus } from "lucide-react";
import { useRef, useState } from "react";
import type { Fields } from "../api/client";
import type { ListColumn } from "../api/lists";
import { YesNoCell } from "./YesNoCell";
import { titleOf } from "./words";

/** A row that is not there yet. Enter in any of its cells adds it. */
export function NewRow({
  columns,
  onAdd,
}: {
  columns: ListColumn[];
  onAdd: (fields: Fields) => Promise<unknown>;
}) {
  const [cells, setCells] = useState<Record<string, string>>({});
  const first = useRef<HTMLInputElement>(null);
  const filled = Object.values(cells).some((s) => s.trim() !== "");
  const add = async () => {
    if (!filled) return;
    try {
      await onAdd(cells);
    } catch {
      return; // what was typed stays, and why is told above
    }
    setCells({});
    first.current?.focus();
  };
  return (
    <tr className="border-b border-rule bg-tint/50">
      {columns.map((c, i) => {
        const set = (v: string) => {
          setCells({ ...cells, [c.name]: v });
        };
        const label = `${titleOf(c)} of a new row`;
        return (
          <td key={c.name} className="p-0">
            {c.type === "yes_no" ? (
              <YesNoCell label={label} text={cells[c.name] ?? ""} onSet={set} />
            ) : (
              <input
                ref={i === 0 ? first : undefined}
                aria-label={label}
                className={`h-8 w-full bg-transparent px-2 ${c.type === "number" ? "text-right" : ""}`}
                placeholder={i === 0 ? "Add a row" : ""}
                value={cells[c.name] ?? ""}
                onChange={(e) => {
                  set(e.target.value);
                }}
                onKeyDown={(e) => {
                  if (e.key === "Enter") void add();
                  if (e.key === "Escape") setCells({});
                }}
              />
            )}
          </td>
        );
      })}
      <td className="w-8 text-center">
        <button
          className="rounded p-1 text-leafink disabled:opacity-40"
          aria-label="Add the row"
          disabled={!filled}
          onClick={() => void add()}
        >
          <Plus size={15} />
        </button>
      </td>
    </tr>
  );
}
