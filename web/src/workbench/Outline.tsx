import { DndContext, DragOverlay, pointerWithin } from "@dnd-kit/core";
import type { KeyboardEvent } from "react";
import type { Fields, Rehearsal, Workflow } from "../api/client";
import type { Edit } from "../api/draft";
import { Breaks } from "./Breaks";
import { KeysHelp } from "./KeysHelp";
import { keyOf, TOP, TRIGGER } from "./lines";
import { Adding } from "./outline/Adding";
import { onKey } from "./outline/onKey";
import { OutlineFoot } from "./outline/OutlineFoot";
import { OutlineLine } from "./outline/OutlineLine";
import { useDragged } from "./outline/useDragged";
import { useOutline } from "./outline/useOutline";
import { Sentence } from "./Sentence";
import { TriggerForm } from "./TriggerForm";
import type { Lines } from "./useLines";

interface Props {
  workflow: Workflow;
  rehearsal: Rehearsal | undefined;
  chosen: string | undefined; // a line's key
  onChoose: (key: string | undefined) => void;
  onEdit: (edits: Edit[]) => void;
  does: Lines;
  item: Fields | undefined;
  trigger: Fields | undefined;
  row: string | undefined;
  turned: number; // counts up when something is undone: forms are filled in anew
}

/** The workflow as sentences; a line's settings open beneath it. */
export function Outline(props: Props) {
  const { workflow, chosen, onChoose, onEdit, does, trigger, turned } = props;
  const { lines } = workflow;
  const outline = useOutline({ workflow, chosen, onChoose, onEdit, does });
  const { heldLine, markOf, context } = useDragged(lines, does);
  const keyed = (e: KeyboardEvent, key: string) => {
    onKey(e, key, outline, { lines, chosen, onChoose, does });
  };
  return (
    <DndContext
      {...context}
      collisionDetection={pointerWithin}
      accessibility={{ screenReaderInstructions: { draggable: "Alt and the arrow keys move a line." } }}
    >
      <div
        ref={outline.tree}
        role="tree"
        aria-label="The workflow"
        onCopy={outline.onCopy}
        onCut={outline.onCut}
        onPaste={outline.onPaste}
      >
        <Sentence
          id={TRIGGER}
          number=""
          text={[workflow.trigger, ...(workflow.limit_sentences ?? [])].join(". ")}
          chosen={chosen === TRIGGER}
          fixed
          mark={markOf(TRIGGER)}
          trouble={workflow.problems.some((p) => /^(trigger|limits)/.test(p.path))}
          figures=""
          onFocus={() => {
            outline.setAt(TRIGGER);
          }}
          onKey={(e) => {
            keyed(e, TRIGGER);
          }}
          onChoose={() => {
            onChoose(chosen === TRIGGER ? undefined : TRIGGER);
          }}
          tab={outline.stop === TRIGGER}
        >
          {chosen === TRIGGER && (
            <TriggerForm
              key={`${workflow.name} ${String(turned)}`}
              workflow={workflow}
              item={trigger}
              seen={props.rehearsal}
              onEdit={onEdit}
            />
          )}
        </Sentence>
        {outline.adding === TRIGGER && (
          <Adding
            depth={0}
            prompt="What happens first…"
            taken={outline.taken}
            onAdd={outline.add({ in: TOP, to: 0 })}
            onLeave={() => {
              outline.setAdding(undefined);
              outline.focus(TRIGGER);
            }}
          />
        )}
        {lines.map((l) => (
          <OutlineLine
            key={outline.idOf(keyOf(l))}
            workflow={workflow}
            line={l}
            outline={outline}
            rehearsal={props.rehearsal}
            chosen={chosen}
            onChoose={onChoose}
            onEdit={onEdit}
            onKey={keyed}
            mark={markOf(keyOf(l))}
            shared={{ item: props.item, trigger, row: props.row }}
            turned={turned}
          />
        ))}
      </div>
      <OutlineFoot lines={lines} outline={outline} does={does} onChoose={onChoose} />
      <DragOverlay dropAnimation={null}>
        {heldLine && (
          <div className="card max-w-96 truncate px-3 py-1.5 font-serif text-[15.5px] shadow-lg">
            {heldLine.sentence}
          </div>
        )}
      </DragOverlay>
      <Breaks breaking={does.breaking} lines={lines} onSettle={does.settle} />
      <KeysHelp open={outline.help} onOpen={outline.setHelp} />
    </DndContext>
  );
}
