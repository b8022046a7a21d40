import {
  DndContext,
  DragOverlay,
  PointerSensor,
  pointerWithin,
  useSensor,
  useSensors,
  type DragMoveEvent,
} from "@dnd-kit/core";
import { Fragment, useEffect, useMemo, useRef, useState, type KeyboardEvent } from "react";
import { asFields, type Column, type Fields, type Line, type Rehearsal, type Workflow } from "../api/client";
import { has, renamesOf, type Edit } from "../api/draft";
import { useKinds } from "../api/connectors";
import { AddLine } from "./AddLine";
import { Breaks } from "./Breaks";
import { CaseForm } from "./CaseForm";
import { KeysHelp } from "./KeysHelp";
import { LineMenu, type LineDoes } from "./LineMenu";
import {
  below,
  casesOf,
  dropped,
  extent,
  figures,
  find,
  freshCase,
  isCase,
  keyOf,
  ON_FAILURE,
  over,
  shift,
  stepsIn,
  TOP,
  TRIGGER,
  type Direction,
  type Place,
} from "./lines";
import { Sentence } from "./Sentence";
import { StepForm } from "./StepForm";
import { TriggerForm } from "./TriggerForm";
import { copied, type Lines } from "./useLines";

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

/** Where the cursor goes when a line opens: to the first field in which nothing stands yet. */
function firstField(line: Element | null | undefined): HTMLElement | undefined {
  const fields = [
    ...(line?.querySelectorAll<HTMLElement>("input, select, textarea, .cm-content, button.field") ?? []),
  ];
  return (
    fields.find((f) =>
      f instanceof HTMLInputElement || f instanceof HTMLSelectElement || f instanceof HTMLTextAreaElement
        ? f.value === ""
        : f.querySelector(".cm-placeholder, .text-third")?.textContent,
    ) ?? fields[0]
  );
}

const keysOf: Record<string, Direction> = {
  ArrowUp: "up",
  ArrowDown: "down",
  ArrowRight: "in",
  ArrowLeft: "out",
};

/** The workflow as sentences; a line's settings open beneath it. */
export function Outline({
  workflow,
  rehearsal,
  chosen,
  onChoose,
  onEdit,
  does,
  item,
  trigger,
  row,
  turned,
}: Props) {
  const tree = useRef<HTMLDivElement>(null);
  const kinds = useKinds();
  const { lines } = workflow;
  const [at, setAt] = useState<string>(); // the line that has the tab stop
  const [adding, setAdding] = useState<string>(); // the line below which one is added
  const [menu, setMenu] = useState<string>();
  const [help, setHelp] = useState(false);
  const [held, setHeld] = useState<{ key: string; over?: string; half: "upper" | "lower" }>();
  const sensors = useSensors(useSensor(PointerSensor, { activationConstraint: { distance: 6 } }));
  const keys = useMemo(() => [TRIGGER, ...lines.map(keyOf)], [lines]);
  const stop = [at, chosen, TRIGGER].find((k) => k !== undefined && keys.includes(k));
  const taken = lines.map((l) => l.name);
  const id = (key: string) => renamesOf(workflow.name).id(key, has(workflow)); // the same while a line is renamed
  const focus = (key: string) => {
    tree.current?.querySelector<HTMLElement>(`[data-line="${CSS.escape(key)}"] button`)?.focus();
  };

  // A line that was made or moved by keys keeps the focus.
  const { keep } = does;
  useEffect(() => {
    const { key, fill } = keep.current ?? {};
    if (key === undefined || !keys.includes(key)) return;
    keep.current = undefined;
    const line = tree.current?.querySelector<HTMLElement>(`[data-line="${CSS.escape(key)}"]`);
    ((fill ? firstField(line) : undefined) ?? line?.querySelector("button"))?.focus();
  }, [keep, keys]);

  const beside = (l: Line) => {
    const i = lines.indexOf(l);
    return keyOf(
      lines[i + extent(lines, i) + 1] ?? lines[i - 1] ?? { name: TRIGGER, type: "", kind: "", sentence: "" },
    );
  };
  const fill = (key: string) => {
    // opens a line with the cursor in its first field
    onChoose(key);
    requestAnimationFrame(() => {
      firstField(tree.current?.querySelector(`[data-line="${CSS.escape(key)}"]`))?.focus();
    });
  };
  const doesFor = (l: Line): LineDoes => {
    const key = keyOf(l);
    const branch = isCase(l) ? (l.in ?? "") : l.name;
    return {
      add: () => {
        setAdding(key);
      },
      addCase: () => {
        const c = freshCase(lines, branch);
        does.insert({ in: branch, to: casesOf(lines, branch).length }, c);
        onChoose(`${branch}/${String(asFields(c)["name"])}`);
      },
      addElse: () => {
        void does.change([{ op: "insert", in: branch, value: { name: "else" } }], "Added: what else happens");
      },
      addFallback: () => {
        void does.change(
          [
            { op: "set", step: l.name, key: "on_error", value: "fallback" },
            { op: "set", step: l.name, key: "fallback", value: [] },
          ],
          "Added: what happens if it fails",
        );
      },
      copy: () => {
        does.copy(l);
      },
      cut: () => {
        does.cut(l, beside(l));
      },
      paste: () => {
        void copied().then((t) => {
          does.paste(key, t);
        });
      },
      duplicate: () => {
        does.duplicate(l);
      },
      shift: (to) => {
        does.move(key, (now) => shift(now, key, to));
      },
      toggle: () => {
        onEdit([{ op: "set", step: l.name, key: "off", value: l.off ? null : true }]);
      },
      remove: () => {
        does.remove(l, beside(l));
      },
    };
  };

  const onKey = (e: KeyboardEvent, key: string) => {
    const n = keys.indexOf(key);
    const l = find(lines, key);
    const go = (to: number) => {
      const k = keys[Math.max(0, Math.min(keys.length - 1, to))];
      if (k !== undefined) focus(k);
    };
    const act = (f: () => void) => {
      e.preventDefault();
      e.stopPropagation();
      f();
    };
    const letter = (e.ctrlKey || e.metaKey) && !e.altKey ? e.key.toLowerCase() : "";
    const direction = keysOf[e.key];
    if (e.altKey && direction) {
      if (l)
        act(() => {
          doesFor(l).shift(direction);
        });
    } else if (letter === "d" && l)
      act(() => {
        does.duplicate(l);
      });
    else if (letter !== "" || e.altKey)
      return; // copying and pasting are events of their own
    else if (e.key === "ArrowDown")
      act(() => {
        go(n + 1);
      });
    else if (e.key === "ArrowUp")
      act(() => {
        go(n - 1);
      });
    else if (e.key === "Home")
      act(() => {
        go(0);
      });
    else if (e.key === "End")
      act(() => {
        go(keys.length - 1);
      });
    else if (e.key === "ArrowRight")
      act(() => {
        if (chosen !== key) onChoose(key);
        else go(n + 1);
      });
    else if (e.key === "ArrowLeft")
      act(() => {
        if (chosen === key) onChoose(undefined);
        else focus(parentOf(lines, l));
      });
    else if (e.key === "Enter")
      act(() => {
        setAdding(key);
      });
    else if (e.key === "F2")
      act(() => {
        fill(key);
      });
    else if (e.key === "Delete" && l)
      act(() => {
        does.remove(l, beside(l));
      });
    else if ((e.key === "ContextMenu" || (e.shiftKey && e.key === "F10")) && l)
      act(() => {
        setMenu(key);
      });
    else if (e.key === "?")
      act(() => {
        setHelp(true);
      });
  };
  const inField = (e: React.SyntheticEvent) =>
    (e.target as HTMLElement).closest("input, textarea, select, [contenteditable=true]") !== null;
  const onClip = (e: React.ClipboardEvent, act: (l: Line | undefined, key: string | undefined) => void) => {
    if (inField(e)) return;
    e.preventDefault();
    const key = (e.target as HTMLElement).closest<HTMLElement>("[data-line]")?.dataset["line"];
    act(find(lines, key), key);
  };

  const onMove = (e: DragMoveEvent) => {
    const start = e.activatorEvent as PointerEvent;
    const y = start.clientY + e.delta.y;
    const box = e.over?.rect;
    setHeld({
      key: String(e.active.id),
      half: box && y > box.top + box.height / 2 ? "lower" : "upper",
      ...(e.over ? { over: String(e.over.id) } : {}),
    });
  };
  const drop = () => {
    const place =
      held?.over !== undefined &&
      (held.over === TRIGGER ? { in: TOP, to: 0 } : over(lines, held.over, held.key, held.half));
    setHeld(undefined);
    if (held && place && dropped(lines, held.key, place))
      does.move(held.key, (now) => dropped(now, held.key, place));
  };
  const markOf = (key: string) => {
    if (held?.over !== key || held.key === key) return undefined;
    const place = key === TRIGGER ? { in: TOP, to: 0 } : over(lines, key, held.key, held.half);
    return place && dropped(lines, held.key, place) ? (key === TRIGGER ? "lower" : held.half) : undefined;
  };
  const add = (place: Place) => (step: Edit["value"]) => {
    setAdding(undefined);
    does.insert(place, step);
  };
  const failing = (above: Line | undefined) => {
    const way = kinds.data?.steps.find((k) => k.type === above?.type)?.does;
    const single = above !== undefined && (way === undefined || way === "calls" || way === "spreads");
    if (!single || isCase(above) || lines.some((x) => x.inside === `${above.name}/fallback`)) return {};
    return {
      onFails: () => {
        void does.change(
          [
            { op: "set", step: above.name, key: "on_error", value: "fallback" },
            { op: "set", step: above.name, key: "fallback", value: [] },
          ],
          "Added: what happens where the line above fails",
        );
      },
    };
  };
  const heldLine = find(lines, held?.key);

  return (
    <DndContext
      sensors={sensors}
      collisionDetection={pointerWithin}
      onDragStart={(e) => {
        setHeld({ key: String(e.active.id), half: "upper" });
      }}
      onDragMove={onMove}
      onDragEnd={drop}
      onDragCancel={() => {
        setHeld(undefined);
      }}
      accessibility={{ screenReaderInstructions: { draggable: "Alt and the arrow keys move a line." } }}
    >
      <div
        ref={tree}
        role="tree"
        aria-label="The workflow"
        onCopy={(e) => {
          onClip(e, (l) => {
            if (l) e.clipboardData.setData("text/plain", does.copy(l));
          });
        }}
        onCut={(e) => {
          onClip(e, (l) => {
            if (l?.text) {
              e.clipboardData.setData("text/plain", l.text);
              does.cut(l, beside(l));
            }
          });
        }}
        onPaste={(e) => {
          onClip(e, (_, key) => {
            does.paste(key, e.clipboardData.getData("text/plain"));
          });
        }}
      >
        <Sentence
          id={TRIGGER}
          number=""
          text={workflow.trigger}
          chosen={chosen === TRIGGER}
          fixed
          mark={markOf(TRIGGER)}
          trouble={workflow.problems.some((p) => p.path.startsWith("trigger"))}
          figures=""
          onFocus={() => {
            setAt(TRIGGER);
          }}
          onKey={(e) => {
            onKey(e, TRIGGER);
          }}
          onChoose={() => {
            onChoose(chosen === TRIGGER ? undefined : TRIGGER);
          }}
          tab={stop === TRIGGER}
        >
          {chosen === TRIGGER && (
            <TriggerForm
              key={`${workflow.name} ${String(turned)}`}
              workflow={workflow}
              item={trigger}
              onEdit={onEdit}
            />
          )}
        </Sentence>
        {adding === TRIGGER && (
          <Adding
            depth={0}
            prompt="What happens first…"
            taken={taken}
            onAdd={add({ in: TOP, to: 0 })}
            onLeave={() => {
              setAdding(undefined);
              focus(TRIGGER);
            }}
          />
        )}
        {lines.map((l, i) => {
          const key = keyOf(l);
          const column = isCase(l) ? undefined : rehearsal?.columns.find((c) => c.name === l.name);
          const problems = problemsOf(workflow, l);
          const count = figures(l, rehearsal);
          const shared = {
            item,
            trigger,
            row,
            steps: lines
              .slice(0, i)
              .filter((x) => !isCase(x))
              .map((x) => x.name),
          };
          const actions = doesFor(l);
          const same = id(key);
          const open = `${same} ${String(turned)}`;
          return (
            <Fragment key={same}>
              <Sentence
                id={key}
                number={l.number ?? ""}
                depth={l.depth ?? 0}
                text={l.sentence}
                isCase={isCase(l)}
                off={l.off}
                note={l.note}
                chosen={chosen === key}
                tab={stop === key}
                fixed={isCase(l) && (l.type !== "case" || l.name === "else")}
                mark={markOf(key)}
                trouble={problems.some((p) => p.severity === "error" && !p.gap)}
                warning={problems.some((p) => p.severity !== "error")}
                gaps={problems.some((p) => p.gap)}
                figures={count}
                {...(count ? { figuresOf: "rows in the last rehearsal" } : {})}
                bad={(column?.set_aside ?? 0) > 0}
                onFocus={() => {
                  setAt(key);
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
                    kind={kinds.data?.steps.find((k) => k.type === l.type)}
                    open={menu === key}
                    onOpen={(o) => {
                      setMenu(o ? key : undefined);
                    }}
                    onClosed={() => {
                      if (!document.activeElement?.matches("input")) focus(key);
                    }}
                    does={actions}
                    tab={stop === key}
                  />
                }
              >
                {chosen === key && !isCase(l) && (
                  <StepForm
                    key={open}
                    line={l}
                    cases={casesOf(lines, l.name)}
                    fallback={lines.some((x) => x.inside === `${l.name}/fallback`)}
                    earlier={shared.steps}
                    item={item}
                    trigger={trigger}
                    row={row}
                    column={column as Column | undefined}
                    problems={problems}
                    idOf={id}
                    onEdit={onEdit}
                  />
                )}
                {chosen === key && isCase(l) && (
                  <CaseForm
                    key={open}
                    line={l}
                    problems={problems}
                    count={count}
                    shared={shared}
                    onEdit={onEdit}
                  />
                )}
              </Sentence>
              {adding === key && isCase(l) && (
                <Adding
                  depth={(l.depth ?? 0) + 1}
                  prompt={promptOf(l)}
                  taken={taken}
                  onAdd={add(below(lines, key))}
                  onLeave={() => {
                    setAdding(undefined);
                    focus(key);
                  }}
                />
              )}
              {closing(lines, i).map((c) => (
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
                      onLeave={() => {
                        setAdding(undefined);
                        focus(keyOf(c));
                      }}
                    />
                  )}
                </Fragment>
              ))}
            </Fragment>
          );
        })}
      </div>
      <div className="mt-1 mr-4 ml-9">
        <AddLine
          prompt="Say what should happen next…"
          begins={lines.length === 0}
          taken={taken}
          onAdd={add({ in: TOP, to: stepsIn(lines, TOP).length })}
          onStart={() => {
            onChoose(TRIGGER);
          }}
          {...failing(stepsIn(lines, TOP).at(-1))}
        />
      </div>
      <div className="mt-2 mr-4 ml-9 flex gap-4 text-second">
        {lines.length > 0 && !lines.some((l) => l.inside === ON_FAILURE) && (
          <button
            type="button"
            className="hover:text-ink hover:underline"
            onClick={() => {
              void does.change(
                [{ op: "set", key: "on_failure", value: [] }],
                "Added: what happens when a run fails",
              );
            }}
          >
            When a run fails…
          </button>
        )}
        <button
          type="button"
          className="ml-auto hover:text-ink hover:underline"
          onClick={() => {
            setHelp(true);
          }}
        >
          Keys
        </button>
      </div>
      <DragOverlay dropAnimation={null}>
        {heldLine && (
          <div className="card max-w-96 truncate px-3 py-1.5 font-serif text-[15.5px] shadow-lg">
            {heldLine.sentence}
          </div>
        )}
      </DragOverlay>
      <Breaks breaking={does.breaking} lines={lines} onSettle={does.settle} />
      <KeysHelp open={help} onOpen={setHelp} />
    </DndContext>
  );
}

function Adding({
  depth,
  ...props
}: {
  depth: number;
  prompt: string;
  taken: string[];
  onAdd: (step: Edit["value"]) => void;
  onLeave?: () => void;
}) {
  return (
    <div
      role="treeitem"
      aria-level={depth + 1}
      aria-selected={false}
      aria-label={props.prompt}
      className="mr-4"
      style={{ marginLeft: 36 + 18 * depth }}
    >
      <AddLine {...props} />
    </div>
  );
}

const promptOf = (l: Line) =>
  !isCase(l)
    ? "What happens in each round…"
    : l.type === "fallback"
      ? "What happens if it fails…"
      : l.type === "on_failure"
        ? "What happens when a run fails…"
        : l.name === "else"
          ? "What happens to all others…"
          : `What happens in the case ${l.name.replaceAll("_", " ")}…`;

const parentOf = (lines: Line[], l: Line | undefined) => {
  const i = l ? lines.indexOf(l) : -1;
  for (let j = i - 1; j >= 0; j--) {
    const x = lines[j];
    if (x && (x.depth ?? 0) < (l?.depth ?? 0)) return keyOf(x);
  }
  return TRIGGER;
};

/** The lines of which the last one within them, or they themselves, is the line at i; the innermost first. */
function closing(lines: Line[], i: number): Line[] {
  const out: Line[] = [];
  for (let j = i; j >= 0; j--) {
    const l = lines[j];
    if (l && j + extent(lines, j) === i) out.push(l);
  }
  return out;
}

/** Whether a line can be added to these steps now: the chosen line is one of them, or holds them. */
const shows = (lines: Line[], inside: string, chosen: string | undefined) =>
  chosen !== undefined && lines.some((l) => keyOf(l) === chosen && (l.inside === inside || l.in === inside));

/** What is wrong with a line; of a case, with its condition. */
function problemsOf(workflow: Workflow, l: Line) {
  if (!isCase(l)) return workflow.problems.filter((p) => p.step === l.name);
  const n = casesOf(workflow.lines, l.in ?? "").indexOf(l);
  return n < 0
    ? []
    : workflow.problems.filter((p) => p.step === l.in && p.path.includes(`.cases[${String(n)}].`));
}
