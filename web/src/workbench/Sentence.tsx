import { useDraggable, useDroppable } from "@dnd-kit/core";
import type { KeyboardEvent, ReactNode } from "react";

interface Props {
  id: string; // what the line is known by
  number: string;
  depth?: number;
  isCase?: boolean;
  text: string;
  note?: string | undefined;
  off?: boolean | undefined;
  chosen: boolean;
  tab: boolean;
  trouble: boolean;
  warning?: boolean;
  gaps?: boolean; // something is not filled in yet
  bad?: boolean;
  figures: string;
  figuresOf?: string; // what the figures count, in words
  fixed?: boolean; // it cannot be dragged
  mark?: "upper" | "lower" | undefined; // what is held would go here
  menu?: ReactNode;
  onKey: (e: KeyboardEvent) => void;
  onFocus: () => void;
  onChoose: () => void;
  children: ReactNode;
}

/** A line of the outline. */
export function Sentence({
  id,
  number,
  depth = 0,
  isCase = false,
  text,
  note,
  off,
  chosen,
  tab,
  trouble,
  warning,
  gaps,
  bad,
  figures,
  figuresOf,
  fixed,
  mark,
  menu,
  onKey,
  onFocus,
  onChoose,
  children,
}: Props) {
  const drag = useDraggable({ id, disabled: fixed ?? false });
  const drop = useDroppable({ id });
  const space = text.indexOf(" ");
  const verb = space < 0 ? text : text.slice(0, space);
  const rest = space < 0 ? "" : text.slice(space);
  const line =
    mark === "upper"
      ? "before:absolute before:inset-x-2 before:-top-px before:h-[2px] before:bg-leaf"
      : mark === "lower"
        ? "after:absolute after:inset-x-2 after:-bottom-px after:h-[2px] after:bg-leaf"
        : "";
  return (
    <div
      role="treeitem"
      aria-level={depth + 1}
      aria-selected={chosen}
      aria-expanded={chosen}
      data-line={id}
      className={`border-l-[3px] ${chosen ? "border-leaf bg-tint" : "border-transparent forced-colors:border-[Canvas]"} ${drag.isDragging ? "opacity-50" : ""}`}
    >
      <div
        ref={(n) => {
          drag.setNodeRef(n);
          drop.setNodeRef(n);
        }}
        className={`group relative flex items-baseline pr-2 ${line}`}
      >
        <button
          type="button"
          tabIndex={tab ? 0 : -1}
          className="flex min-w-0 flex-1 items-baseline gap-2 py-[7px] text-left"
          style={{ paddingLeft: 16 + 18 * depth }}
          onClick={onChoose}
          onKeyDown={onKey}
          onFocus={onFocus}
          {...drag.listeners}
        >
          {!isCase && <span className="min-w-4 shrink-0 text-right text-xs text-third">{number}</span>}
          <span
            className={`min-w-0 flex-1 font-serif text-[15.5px] leading-snug ${off ? "text-third line-through" : ""}`}
          >
            {isCase ? (
              <span className="italic">{text}</span>
            ) : (
              <>
                <span className="font-semibold text-leafink">{verb}</span>
                {rest}
              </>
            )}
            {note && <span className="block font-sans text-xs text-second">{note}</span>}
          </span>
          <span className="shrink-0 text-xs text-second" title={figuresOf}>
            {figures}
          </span>
          <Standing {...{ isCase, trouble, warning, bad, gaps }} />
        </button>
        {menu ?? <span className="w-6 shrink-0" />}
      </div>
      {chosen && (
        <div
          role="presentation" // it only hears what its fields leave over
          className="pr-4"
          style={{ paddingLeft: 40 + 18 * Math.min(depth, 2) }}
          onKeyDown={(e) => {
            if (e.key === "Escape" && !e.defaultPrevented)
              e.currentTarget.parentElement?.querySelector("button")?.focus();
          }}
        >
          {children}
        </div>
      )}
    </div>
  );
}

/** Whether something is wrong with a line, or still to be filled in. */
function Standing({
  isCase,
  trouble,
  warning,
  bad,
  gaps,
}: Pick<Props, "isCase" | "trouble" | "warning" | "bad" | "gaps">) {
  return (
    <span
      className="w-4 shrink-0 text-center text-xs font-bold"
      title={
        trouble
          ? "something to mend"
          : warning
            ? "something to look at"
            : gaps
              ? "something to fill in"
              : "nothing to mend"
      }
    >
      {trouble ? (
        <span className="text-rust">▲</span>
      ) : warning ? (
        <span className="rounded-full bg-ambertint px-1 text-amber">!</span>
      ) : bad ? (
        <span className="text-rust">▲</span>
      ) : gaps ? (
        <span className="text-third">…</span>
      ) : isCase ? null : (
        <span className="text-leaf">●</span>
      )}
    </span>
  );
}
