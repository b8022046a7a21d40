import { brief } from "../../ui/words";
import { calledOf, distinctWords, type Found } from "./paths";

interface Props {
  found: Found;
  at: number;
  headed: boolean; // the first of its source
  searched: boolean; // those of all sources stand together
  marked: boolean;
  onChoose: () => void;
}

/** A field: what it is called, its type, what it holds in the chosen row, how often it is filled in. */
export function FoundRow({ found: f, at, headed, searched, marked, onChoose }: Props) {
  return (
    <>
      {headed && (
        <div role="presentation" className="truncate px-3 pt-2 pb-1 text-xs font-semibold text-second">
          {f.source.title}
        </div>
      )}
      <button
        type="button"
        id={`found-${String(at)}`}
        data-at={at}
        role="option"
        aria-selected={marked}
        tabIndex={-1}
        className={`grid w-full text-left grid-cols-[minmax(0,190px)_96px_minmax(0,1fr)_64px_92px] items-baseline gap-x-2.5 px-3 py-1 ${marked ? "bg-tint" : "hover:bg-tint/60"}`}
        onMouseDown={(e) => {
          e.preventDefault(); // the cursor stays where the value goes
        }}
        onClick={onChoose}
      >
        <span className="truncate font-mono text-xs" title={`${f.source.prefix}.${calledOf(f)}`}>
          {!searched || f.source.prefix === "item" ? (
            ""
          ) : (
            <span className="text-third">{f.source.prefix}.</span>
          )}
          {calledOf(f)}
        </span>
        <span className="truncate text-xs text-second">{f.type}</span>
        <span className={`truncate ${f.value === undefined ? "text-third italic" : ""}`}>
          {f.value === undefined ? "not there" : brief(f.value)}
        </span>
        <span
          className={`text-right text-xs whitespace-nowrap tabular-nums ${f.filled < f.of ? "text-amber" : "text-second"}`}
          title={`filled in ${String(f.filled)} of ${String(f.of)}`}
        >
          {f.filled} of {f.of}
        </span>
        <span className="truncate text-xs text-third" title={f.examples.join(" · ")}>
          {distinctWords(f)}
        </span>
      </button>
    </>
  );
}
