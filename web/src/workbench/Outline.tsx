import { useRef, type KeyboardEvent } from "react";
import type { Column, Fields, Rehearsal, Workflow } from "../api/client";
import type { Edit } from "../api/queries";
import { AddLine } from "./AddLine";
import { StepForm } from "./StepForm";
import { TriggerForm } from "./TriggerForm";

interface Props {
  workflow: Workflow;
  rehearsal: Rehearsal | undefined;
  chosen: string | undefined; // a line's name; "-" for the trigger
  onChoose: (name: string | undefined) => void;
  onEdit: (edits: Edit[]) => void;
  item: Fields | undefined;
  trigger: Fields | undefined;
  row: string | undefined;
}

/** The workflow as sentences; a line's settings open beneath it. */
export function Outline({ workflow, rehearsal, chosen, onChoose, onEdit, item, trigger, row }: Props) {
  const tree = useRef<HTMLDivElement>(null);
  const names = ["-", ...workflow.lines.map((l) => l.name)];
  const keys = (e: KeyboardEvent, name: string) => {
    const at = names.indexOf(name);
    const go = (to: number) => {
      e.preventDefault();
      tree.current?.querySelectorAll<HTMLElement>("[role=treeitem] > button")[Math.max(0, Math.min(names.length - 1, to))]?.focus();
    };
    if (e.altKey && name !== "-" && (e.key === "ArrowUp" || e.key === "ArrowDown")) {
      e.preventDefault();
      const to = at - 1 + (e.key === "ArrowUp" ? -1 : 1);
      if (to >= 0 && to < workflow.lines.length) onEdit([{ op: "move", step: name, to }]);
    } else if (e.key === "ArrowDown") go(at + 1);
    else if (e.key === "ArrowUp") go(at - 1);
    else if (e.key === "Delete" && name !== "-") { e.preventDefault(); onEdit([{ op: "remove", step: name }]); }
  };
  const problemsOf = (name: string) => workflow.problems.filter((p) => p.step === name);
  return (
    <div>
      <div ref={tree} role="tree" aria-label="The workflow">
        <Sentence number="" text={workflow.trigger} chosen={chosen === "-"} trouble={workflow.problems.some((p) => p.path.startsWith("trigger"))} figures="" onKey={(e) => { keys(e, "-"); }} onChoose={() => { onChoose(chosen === "-" ? undefined : "-"); }} tab={chosen === undefined || chosen === "-"}>
          {chosen === "-" && <TriggerForm key={workflow.name} workflow={workflow} item={trigger} onEdit={onEdit} />}
        </Sentence>
        {workflow.lines.map((l, i) => (
          <Sentence key={l.name} number={String(i + 1)} text={l.sentence} off={l.off} note={l.note} chosen={chosen === l.name} tab={chosen === l.name}
            trouble={problemsOf(l.name).some((p) => p.severity === "error")} warning={problemsOf(l.name).length > 0}
            figures={figures(rehearsal?.columns.find((c) => c.name === l.name))} bad={(rehearsal?.columns.find((c) => c.name === l.name)?.set_aside ?? 0) > 0}
            onKey={(e) => { keys(e, l.name); }} onChoose={() => { onChoose(chosen === l.name ? undefined : l.name); }}>
            {chosen === l.name && <StepForm key={l.name} line={l} earlier={workflow.lines.slice(0, i).map((x) => x.name)} item={item} trigger={trigger} row={row} column={rehearsal?.columns.find((c) => c.name === l.name)} problems={problemsOf(l.name)} onEdit={onEdit} />}
          </Sentence>
        ))}
      </div>
      <div className="mt-1 ml-9"><AddLine taken={workflow.lines.map((l) => l.name)} onAdd={(step, name) => { onEdit([{ op: "insert", to: workflow.lines.length, value: step }]); onChoose(name); }} /></div>
    </div>
  );
}

const figures = (c: Column | undefined) => (!c || (c.in === 0 && c.out === 0) ? "" : c.in === c.out ? String(c.in) : `${String(c.in)} → ${String(c.out)}`);

interface SentenceProps {
  number: string;
  text: string;
  note?: string | undefined;
  off?: boolean | undefined;
  chosen: boolean;
  tab: boolean;
  trouble: boolean;
  warning?: boolean;
  bad?: boolean;
  figures: string;
  onKey: (e: KeyboardEvent) => void;
  onChoose: () => void;
  children: React.ReactNode;
}

function Sentence({ number, text, note, off, chosen, tab, trouble, warning, bad, figures: numbers, onKey, onChoose, children }: SentenceProps) {
  const space = text.indexOf(" ");
  const verb = space < 0 ? text : text.slice(0, space);
  const rest = space < 0 ? "" : text.slice(space);
  return (
    <div role="treeitem" aria-selected={chosen} aria-expanded={chosen} className={`border-l-[3px] ${chosen ? "border-leaf bg-tint" : "border-transparent"}`}>
      <button type="button" tabIndex={tab ? 0 : -1} className="flex w-full items-baseline gap-2 px-4 py-[7px] text-left" onClick={onChoose} onKeyDown={onKey}>
        <span className="w-4 shrink-0 text-right text-xs text-third">{number}</span>
        <span className={`min-w-0 flex-1 font-serif text-[15.5px] leading-snug ${off ? "text-third line-through" : ""}`}>
          <span className="font-semibold text-leafink">{verb}</span>{rest}
          {note && <span className="block font-sans text-xs text-second">{note}</span>}
        </span>
        <span className="shrink-0 text-xs text-second">{numbers}</span>
        <span className="w-4 shrink-0 text-center text-xs font-bold" title={trouble ? "something to mend" : warning ? "something to look at" : "nothing to mend"}>
          {trouble ? <span className="text-rust">▲</span> : warning ? <span className="rounded-full bg-ambertint px-1 text-amber">!</span> : bad ? <span className="text-rust">▲</span> : <span className="text-leaf">●</span>}
        </span>
      </button>
      {chosen && <div className="pr-4 pl-10">{children}</div>}
    </div>
  );
}
