import type { Line } from "../../api/client";
import { AddLine } from "../AddLine";
import { isCase, ON_FAILURE, stepsIn, TOP, TRIGGER } from "../lines";
import type { Lines } from "../useLines";
import type { OutlineState } from "./useOutline";

interface Props {
  lines: Line[];
  outline: OutlineState;
  does: Lines;
  onChoose: (key: string) => void;
}

/** What comes next, what is done when a run fails, and the keys. */
export function OutlineFoot({ lines, outline: { kinds, taken, add, setHelp }, does, onChoose }: Props) {
  const failing = (above: Line | undefined) => {
    const way = kinds?.find((k) => k.type === above?.type)?.does;
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
  return (
    <>
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
    </>
  );
}
