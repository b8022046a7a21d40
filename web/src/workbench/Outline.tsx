import { useRef, type KeyboardEvent } from "react";
import type { Column, Fields, Line, Rehearsal, Workflow } from "../api/client";
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
  const names = ["-", ...workflow.lines.map(keyOf)];
  const keys = (e: KeyboardEvent, name: string) => {
    const at = names.indexOf(name);
    const go = (to: number) => {
      e.preventDefault();
      tree.current?.querySelectorAll<HTMLElement>("[role=treeitem] > button")[Math.max(0, Math.min(names.length - 1, to))]?.focus();
    };
    if (e.altKey && name !== "-" && (e.key === "ArrowUp" || e.key === "ArrowDown")) {
      e.preventDefault();
      const beside = workflow.lines.filter((l) => l.kind !== "case" && l.in === workflow.lines[at - 1]?.in).map(keyOf);
      const to = beside.indexOf(name) + (e.key === "ArrowUp" ? -1 : 1);
      if (beside.includes(name) && to >= 0 && to < beside.length) onEdit([{ op: "move", step: name, to }]);
    } else if (e.key === "ArrowDown") go(at + 1);
    else if (e.key === "ArrowUp") go(at - 1);
    else if (e.key === "Delete" && name !== "-" && workflow.lines[at - 1]?.kind !== "case") { e.preventDefault(); onEdit([{ op: "remove", step: name }]); }
  };
  const problemsOf = (name: string) => workflow.problems.filter((p) => p.step === name);
  return (
    <div>
      <div ref={tree} role="tree" aria-label="The workflow">
        <Sentence number="" text={workflow.trigger} chosen={chosen === "-"} trouble={workflow.problems.some((p) => p.path.startsWith("trigger"))} figures="" onKey={(e) => { keys(e, "-"); }} onChoose={() => { onChoose(chosen === "-" ? undefined : "-"); }} tab={chosen === undefined || chosen === "-"}>
          {chosen === "-" && <TriggerForm key={workflow.name} workflow={workflow} item={trigger} onEdit={onEdit} />}
        </Sentence>
        {workflow.lines.map((l, i) => {
          const key = keyOf(l);
          const column = l.kind === "case" ? undefined : rehearsal?.columns.find((c) => c.name === l.name);
          const problems = l.kind === "case" ? [] : problemsOf(l.name);
          return (
            <div key={key}>
              <Sentence number={l.number ?? ""} depth={l.depth ?? 0} text={l.sentence} isCase={l.kind === "case"} off={l.off} note={l.note} chosen={chosen === key} tab={chosen === key}
                trouble={problems.some((p) => p.severity === "error")} warning={problems.length > 0} figures={figures(column)} bad={(column?.set_aside ?? 0) > 0}
                onKey={(e) => { keys(e, key); }} onChoose={() => { onChoose(chosen === key ? undefined : key); }}>
                {chosen === key && l.kind !== "case" && <StepForm key={l.name} line={l} earlier={workflow.lines.slice(0, i).filter((x) => x.kind !== "case").map((x) => x.name)} item={item} trigger={trigger} row={row} column={column} problems={problems} onEdit={onEdit} />}
                {chosen === key && l.kind === "case" && <div className="hint pb-2">Its condition stands with the line above.</div>}
              </Sentence>
              {closes(workflow.lines, i).filter((c) => shows(workflow.lines, c.inside ?? "", chosen)).map((c) => (
                <div key={c.inside} style={{ marginLeft: 36 + 18 * ((c.depth ?? 0) + 1) }}><AddLine prompt={c.kind === "case" ? `What happens in the case ${c.name.replaceAll("_", " ")}…` : "What happens in each round…"} taken={workflow.lines.map((x) => x.name)} onAdd={(step, name) => { onEdit([{ op: "insert", in: c.inside ?? "", to: workflow.lines.filter((x) => x.in === c.inside && x.kind !== "case").length, value: step }]); onChoose(name); }} /></div>
              ))}
            </div>
          );
        })}
      </div>
      <div className="mt-1 ml-9"><AddLine prompt="Say what should happen next…" taken={workflow.lines.map((l) => l.name)} onAdd={(step, name) => { onEdit([{ op: "insert", to: workflow.lines.filter((x) => !x.in).length, value: step }]); onChoose(name); }} /></div>
    </div>
  );
}

/** What a line is known by: cases by the steps within them. */
const keyOf = (l: Line) => (l.kind === "case" ? l.inside ?? l.name : l.name);

/** The lines that have steps within them whose last one, or they themselves, is the line at i; the innermost first. */
function closes(lines: Line[], i: number): Line[] {
  const out: Line[] = [];
  for (let j = i; j >= 0; j--) {
    const l = lines[j];
    if (l?.inside === undefined) continue;
    const depth = l.depth ?? 0;
    const end = lines.findIndex((x, k) => k > j && (x.depth ?? 0) <= depth);
    if ((end < 0 ? lines.length : end) - 1 === i) out.push(l);
  }
  return out;
}

/** Whether a line can be added to these steps now: the chosen line is one of them, or holds them. */
const shows = (lines: Line[], inside: string, chosen: string | undefined) => chosen !== undefined && lines.some((l) => keyOf(l) === chosen && (l.inside === inside || l.in === inside || (l.type === "branch" && inside.startsWith(`${l.name}/`))));

const figures = (c: Column | undefined) => (!c || (c.in === 0 && c.out === 0) ? "" : c.in === c.out ? String(c.in) : `${String(c.in)} → ${String(c.out)}`);

interface SentenceProps {
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
  bad?: boolean;
  figures: string;
  onKey: (e: KeyboardEvent) => void;
  onChoose: () => void;
  children: React.ReactNode;
}

function Sentence({ number, depth = 0, isCase = false, text, note, off, chosen, tab, trouble, warning, bad, figures: numbers, onKey, onChoose, children }: SentenceProps) {
  const space = text.indexOf(" ");
  const verb = space < 0 ? text : text.slice(0, space);
  const rest = space < 0 ? "" : text.slice(space);
  return (
    <div role="treeitem" aria-level={depth + 1} aria-selected={chosen} aria-expanded={chosen} className={`border-l-[3px] ${chosen ? "border-leaf bg-tint" : "border-transparent"}`}>
      <button type="button" tabIndex={tab ? 0 : -1} className="flex w-full items-baseline gap-2 px-4 py-[7px] text-left" style={{ paddingLeft: 16 + 18 * depth }} onClick={onChoose} onKeyDown={onKey}>
        {!isCase && <span className="min-w-4 shrink-0 text-right text-xs text-third">{number}</span>}
        <span className={`min-w-0 flex-1 font-serif text-[15.5px] leading-snug ${off ? "text-third line-through" : ""}`}>
          {isCase ? <span className="italic">{text}</span> : <><span className="font-semibold text-leafink">{verb}</span>{rest}</>}
          {note && <span className="block font-sans text-xs text-second">{note}</span>}
        </span>
        <span className="shrink-0 text-xs text-second">{numbers}</span>
        {!isCase && <span className="w-4 shrink-0 text-center text-xs font-bold" title={trouble ? "something to mend" : warning ? "something to look at" : "nothing to mend"}>
          {trouble ? <span className="text-rust">▲</span> : warning ? <span className="rounded-full bg-ambertint px-1 text-amber">!</span> : bad ? <span className="text-rust">▲</span> : <span className="text-leaf">●</span>}
        </span>}
      </button>
      {chosen && <div className="pr-4 pl-10">{children}</div>}
    </div>
  );
}
