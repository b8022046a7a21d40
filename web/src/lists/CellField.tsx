import { useEffect, useRef, useState } from "react";
import type { ListColumn } from "../api/lists";
import { YesNoCell } from "./YesNoCell";

/** A cell that is typed into. It counts once it is left, or with Enter; Escape takes it back. */
export function CellField({
  column,
  label,
  text,
  placeholder,
  onSet,
}: {
  column: ListColumn;
  label: string;
  text: string;
  placeholder?: string;
  onSet: (text: string) => void;
}) {
  const [typed, setTyped] = useState(text);
  const back = useRef(false);
  useEffect(() => {
    setTyped(text);
  }, [text]);
  if (column.type === "yes_no") return <YesNoCell label={label} text={text} onSet={onSet} />;
  return (
    <input
      aria-label={label}
      className={`h-8 w-full bg-transparent px-2 hover:bg-tint/60 focus:bg-sheet ${column.type === "number" ? "text-right" : ""}`}
      value={typed}
      placeholder={placeholder}
      onChange={(e) => {
        setTyped(e.target.value);
      }}
      onKeyDown={(e) => {
        if (e.key === "Escape") {
          back.current = true;
          setTyped(text);
          e.currentTarget.blur();
        }
        if (e.key === "Enter") onward(e.currentTarget);
      }}
      onBlur={() => {
        if (!back.current && typed !== text) onSet(typed);
        back.current = false;
      }}
    />
  );
}

/** The cell below, or none: then it is only left. */
function onward(cell: HTMLInputElement) {
  const at = cell.closest("td")?.cellIndex ?? 0;
  const below = cell.closest("tr")?.nextElementSibling?.children[at]?.querySelector("input");
  if (below) below.focus();
  else cell.blur();
}
