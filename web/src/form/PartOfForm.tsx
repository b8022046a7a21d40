import { ChevronRight } from "lucide-react";
import { Collapsible } from "radix-ui";
import { useState, type ReactNode } from "react";
import type { Fields, Schemas } from "../api/client";
import { closedWords, filledOf, type Part } from "./parts";
import { titleOf } from "./schema";

interface Props {
  id: string;
  part: Part;
  values: Fields;
  wrong: boolean; // something in it is to be mended
  render: (p: Schemas["Property"]) => ReactNode;
  onClear: (name: string) => void;
}

/** A part of a long form: open where it holds something, else a line that says what it is for. */
export function PartOfForm({ id, part, values, wrong, render, onClear }: Props) {
  const [open, setOpen] = useState<boolean>();
  const isOpen = open ?? (filledOf(part, values).length > 0 || wrong);
  return (
    <Collapsible.Root open={isOpen} onOpenChange={setOpen} className="border-t border-rule pt-2">
      <Collapsible.Trigger className="flex w-full items-baseline gap-2 text-left">
        <ChevronRight
          size={13}
          aria-hidden
          className={`shrink-0 self-center text-third ${isOpen ? "rotate-90" : ""}`}
        />
        <span className="shrink-0 font-medium">{part.title}</span>
        {!isOpen && <span className="truncate text-third">{closedWords(part, values)}</span>}
      </Collapsible.Trigger>
      <Collapsible.Content className="space-y-3.5 pt-2.5 pb-1">
        {part.one ? (
          <OneOfThese id={id} part={part} values={values} render={render} onClear={onClear} />
        ) : (
          part.properties.map(render)
        )}
      </Collapsible.Content>
    </Collapsible.Root>
  );
}

/** Fields of which only one is filled in: it is chosen first. */
function OneOfThese({ id, part, values, render, onClear }: Omit<Props, "wrong">) {
  const filled = filledOf(part, values).map((p) => p.name);
  const [asked, setAsked] = useState<string>();
  const chosen = asked ?? filled[0] ?? "";
  const shown = part.properties.filter((p) => p.name === chosen || filled.includes(p.name));
  return (
    <>
      <select
        id={`${id}-which`}
        aria-label={part.title}
        className="field"
        value={chosen}
        onChange={(e) => {
          setAsked(e.target.value);
          for (const name of filled) if (name !== e.target.value) onClear(name);
        }}
      >
        <option value="">none</option>
        {part.properties.map((p) => (
          <option key={p.name} value={p.name}>
            {titleOf(p)}
          </option>
        ))}
      </select>
      {shown.map(render)}
    </>
  );
}
