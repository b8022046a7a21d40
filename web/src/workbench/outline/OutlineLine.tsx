import { Fragment } from "react";
import type { Column, Fields, Line, Rehearsal, Workflow } from "../../api/client";
import type { Edit } from "../../api/draft";
import { CaseForm } from "../CaseForm";
import { LineMenu } from "../LineMenu";
import { below, casesOf, figures, isCase, keyOf, stepsIn } from "../lines";
import { Sentence } from "../Sentence";
import { StepForm } from "../StepForm";
import { Adding, promptOf } from "./Adding";
import { closing, problemsOf, shows } from "./places";
import type { OutlineState } from "./useOutline";

interface Props {
  workflow: Workflow;
  line: Line;
  outline: OutlineState;
  rehearsal: Rehearsal | undefined;
  chosen: string | undefined;
  onChoose: (key: string | undefined) => void;
  onEdit: (edits: Edit[]) => void;
  onKey: (e: React.KeyboardEvent, key: string) => void;
  mark: "upper" | "lower" | undefined;
  shared: { item: Fields | undefined; trigger: Fields | undefined; row: string | undefined };
  turned: number;
}

/** A line with what stands beneath it: its settings where it is chosen, and where lines can be added. */
export function OutlineLine(props: Props) {
  const { workflow, line: l, outline, rehearsal, chosen, onChoose, onKey, mark } = props;
  const { lines } = workflow;
  const key = keyOf(l);
  const column = isCase(l) ? undefined : rehearsal?.columns.find((c) => c.name === l.name);
  const problems = problemsOf(workflow, l);
  const count = figures(l, rehearsal);
  return (
    <>
      <Sentence
        id={key}
        number={l.number ?? ""}
        depth={l.depth ?? 0}
        text={l.sentence}
        isCase={isCase(l)}
        off={l.off}
        note={l.note}
        chosen={chosen === key}
        tab={outline.stop === key}
        fixed={isCase(l) && (l.type !== "case" || l.name === "else")}
        mark={mark}
        trouble={problems.some((p) => p.severity === "error" && !p.gap)}
        warning={problems.some((p) => p.severity !== "error")}
        gaps={problems.some((p) => p.gap)}
        figures={count}
        {...(count ? { figuresOf: "rows of the samples" } : {})}
        bad={(column?.set_aside ?? 0) > 0}
        onFocus={() => {
          outline.setAt(key);
        }}
        onKey={(e) => {
          onKey(e, key);
        }}
        onChoose={() => {
          onChoose(chosen === key ? undefined : key);
        }}
        menu={
          <LineMenu
            line={l}
            lines={lines}
            kind={outline.kinds?.find((k) => k.type === l.type)}
            open={outline.menu === key}
            onOpen={(o) => {
              outline.setMenu(o ? key : undefined);
            }}
            onClosed={() => {
              if (!document.activeElement?.matches("input")) outline.focus(key);
            }}
            does={outline.doesFor(l)}
            tab={outline.stop === key}
          />
        }
      >
        {chosen === key && <Settings {...props} column={column} count={count} />}
      </Sentence>
      <Places {...props} />
    </>
  );
}

function Settings({
  workflow: { lines },
  workflow,
  line: l,
  outline,
  shared,
  turned,
  column,
  count,
  onEdit,
}: Props & { column: Column | undefined; count: string }) {
  const key = `${outline.idOf(keyOf(l))} ${String(turned)}`;
  const problems = problemsOf(workflow, l);
  const earlier = lines
    .slice(0, lines.indexOf(l))
    .filter((x) => !isCase(x))
    .map((x) => x.name);
  if (isCase(l))
    return (
      <CaseForm
        key={key}
        line={l}
        problems={problems}
        count={count}
        shared={{ ...shared, steps: earlier }}
        onEdit={onEdit}
      />
    );
  return (
    <StepForm
      key={key}
      line={l}
      cases={casesOf(lines, l.name)}
      fallback={lines.some((x) => x.inside === `${l.name}/fallback`)}
      earlier={earlier}
      {...shared}
      column={column}
      problems={problems}
      idOf={outline.idOf}
      onEdit={onEdit}
    />
  );
}

/** Where lines can be added after this one: in what it opens, and in all that ends with it. */
function Places({ workflow: { lines }, line: l, outline, chosen }: Props) {
  const { adding, taken, add, setAdding, focus } = outline;
  const key = keyOf(l);
  const leave = (to: string) => () => {
    setAdding(undefined);
    focus(to);
  };
  return (
    <>
      {adding === key && isCase(l) && (
        <Adding
          depth={(l.depth ?? 0) + 1}
          prompt={promptOf(l)}
          taken={taken}
          onAdd={add(below(lines, key))}
          onLeave={leave(key)}
        />
      )}
      {closing(lines, lines.indexOf(l)).map((c) => (
        <Fragment key={`after ${keyOf(c)}`}>
          {c.inside !== undefined &&
            (stepsIn(lines, c.inside).length === 0 || shows(lines, c.inside, chosen)) && (
              <Adding
                depth={(c.depth ?? 0) + 1}
                prompt={promptOf(c)}
                taken={taken}
                onAdd={add({ in: c.inside, to: stepsIn(lines, c.inside).length })}
              />
            )}
          {adding === keyOf(c) && !isCase(c) && (
            <Adding
              depth={c.depth ?? 0}
              prompt="What happens then…"
              taken={taken}
              onAdd={add(below(lines, keyOf(c)))}
              onLeave={leave(keyOf(c))}
            />
          )}
        </Fragment>
      ))}
    </>
  );
}
