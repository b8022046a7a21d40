import { MoreHorizontal } from "lucide-react";
import { DropdownMenu } from "radix-ui";
import type { Kind, Line } from "../api/client";
import { isCase, isNamed, type Direction } from "./lines";

export interface LineDoes {
  add: () => void;
  addCase: () => void;
  addElse: () => void;
  addFallback: () => void;
  copy: () => void;
  cut: () => void;
  paste: () => void;
  duplicate: () => void;
  shift: (to: Direction) => void;
  toggle: () => void;
  remove: () => void;
}

interface Props {
  line: Line;
  lines: Line[];
  kind: Kind | undefined;
  open: boolean;
  onOpen: (open: boolean) => void;
  onClosed: () => void;
  does: LineDoes;
  tab: boolean;
}

const entry =
  "flex cursor-pointer items-center gap-6 rounded-md px-2.5 py-1 outline-none data-[highlighted]:bg-tint data-[highlighted]:shadow-[inset_3px_0_0_var(--leaf)] data-[disabled]:text-third";

/** Everything that can be done with a line. */
export function LineMenu({ line, lines, kind, open, onOpen, onClosed, does, tab }: Props) {
  const named = isNamed(line);
  const step = !isCase(line);
  const branch = line.type === "branch";
  const rescues =
    step && (kind === undefined || kind.does === undefined || ["calls", "spreads"].includes(kind.does));
  const item = (words: string, key: string, act: () => void, off = false) => (
    <DropdownMenu.Item className={entry} disabled={off} onSelect={act}>
      <span>{words}</span>
      {key && <kbd className="ml-auto font-mono text-xs text-third">{key}</kbd>}
    </DropdownMenu.Item>
  );
  return (
    <DropdownMenu.Root open={open} onOpenChange={onOpen} modal={false}>
      <DropdownMenu.Trigger
        tabIndex={tab ? 0 : -1}
        className={`h-6 w-6 shrink-0 self-center rounded-md text-third hover:bg-tint hover:text-ink group-hover:opacity-100 focus-visible:opacity-100 data-[state=open]:opacity-100 ${tab ? "" : "opacity-0"}`}
        aria-label={`What to do with ${line.number ? `line ${line.number}` : line.sentence}`}
      >
        <MoreHorizontal size={15} className="mx-auto" aria-hidden />
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content
          className="card z-40 min-w-60 p-1 shadow-lg"
          align="end"
          sideOffset={2}
          onCloseAutoFocus={(e) => {
            e.preventDefault();
            onClosed();
          }}
        >
          {item(step ? "Add a line below" : "Add a line here", "Enter", does.add)}
          {(branch || (named && line.in !== undefined)) && item("Add a case", "", does.addCase)}
          {branch &&
            !lines.some((l) => l.inside === `${line.name}/else`) &&
            item("Add what else happens", "", does.addElse)}
          {rescues &&
            !lines.some((l) => l.inside === `${line.name}/fallback`) &&
            item("Add what happens if it fails", "", does.addFallback)}
          <DropdownMenu.Separator className="my-1 border-t border-rule" />
          {item("Duplicate", "Ctrl D", does.duplicate, !line.text)}
          {item("Copy", "Ctrl C", does.copy, !line.text)}
          {item("Cut", "Ctrl X", does.cut, !line.text)}
          {item("Paste below", "Ctrl V", does.paste)}
          <DropdownMenu.Separator className="my-1 border-t border-rule" />
          {item(
            "Move up",
            "Alt ↑",
            () => {
              does.shift("up");
            },
            !step && !named,
          )}
          {item(
            "Move down",
            "Alt ↓",
            () => {
              does.shift("down");
            },
            !step && !named,
          )}
          {step &&
            item("Move into the line above", "Alt →", () => {
              does.shift("in");
            })}
          {step &&
            item(
              "Move out",
              "Alt ←",
              () => {
                does.shift("out");
              },
              (line.in ?? "/").startsWith("/"),
            )}
          <DropdownMenu.Separator className="my-1 border-t border-rule" />
          {step && item(line.off ? "Switch on" : "Switch off", "", does.toggle)}
          {item("Remove", "Delete", does.remove)}
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}
