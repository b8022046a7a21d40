import { useState } from "react";
import type { Fields, Json } from "../../api/client";
import { askedType } from "../askedTypes";
import { readNumber } from "../read";

/** What bounds a field of a type: the key of its schema, and how it is called. */
const bounds: Partial<Record<string, { key: string; words: string; like: string; number: boolean }[]>> = {
  text: [{ key: "maxLength", words: "Longest", like: "characters, as 80", number: true }],
  long: [{ key: "maxLength", words: "Longest", like: "characters, as 2000", number: true }],
  number: [
    { key: "minimum", words: "Least", like: "as 0", number: true },
    { key: "maximum", words: "Most", like: "as 100", number: true },
  ],
  whole: [
    { key: "minimum", words: "Least", like: "as 1", number: true },
    { key: "maximum", words: "Most", like: "as 24", number: true },
  ],
  date: [
    { key: "earliest", words: "Earliest", like: "today, or as 2026-12-04", number: false },
    { key: "latest", words: "Latest", like: "as 2026-12-24", number: false },
  ],
  clock: [
    { key: "earliest", words: "Earliest", like: "as 08:00", number: false },
    { key: "latest", words: "Latest", like: "as 20:00", number: false },
  ],
  file: [{ key: "up_to", words: "Largest", like: "megabytes, 20 unless said", number: true }],
};

const help = { key: "description", words: "Help", like: "what stands beneath it", number: false };

/** What else can be said of a field: help for whoever fills it in, and its bounds. */
export function AskedMore({
  id,
  named,
  field,
  onChange,
}: {
  id: string;
  named: string;
  field: Fields;
  onChange: (field: Fields) => void;
}) {
  const all = [help, ...(bounds[askedType(field) ?? ""] ?? [])];
  const [open, setOpen] = useState(() => all.some((b) => field[b.key] !== undefined));
  const set = (key: string, value: Json | undefined) => {
    const rest = Object.fromEntries(Object.entries(field).filter(([k]) => k !== key));
    onChange(value === undefined ? rest : { ...rest, [key]: value });
  };
  if (!open)
    return (
      <button
        type="button"
        className="hover:text-ink"
        aria-label={`More on ${named}`}
        onClick={() => {
          setOpen(true);
        }}
      >
        more
      </button>
    );
  return (
    <div className="order-last grid w-full grid-cols-[auto_minmax(0,1fr)] items-center gap-x-2 gap-y-1">
      {all.map((b) => (
        <Bound key={b.key} id={`${id}-${b.key}`} bound={b} value={field[b.key]} onSet={set} />
      ))}
    </div>
  );
}

function Bound({
  id,
  bound,
  value,
  onSet,
}: {
  id: string;
  bound: typeof help;
  value: Json | undefined;
  onSet: (key: string, value: Json | undefined) => void;
}) {
  const [wrong, setWrong] = useState<string>();
  return (
    <>
      <label htmlFor={id}>{bound.words}</label>
      <input
        id={id}
        className="field"
        placeholder={bound.like}
        defaultValue={value === undefined || value === null ? "" : String(value)}
        aria-invalid={wrong !== undefined}
        aria-describedby={wrong ? `${id}-wrong` : undefined}
        onChange={(e) => {
          const typed = e.target.value.trim();
          if (!bound.number) {
            onSet(bound.key, typed === "" ? undefined : typed);
            return;
          }
          const read = readNumber(typed, bound.key === "maxLength" || bound.key === "up_to");
          setWrong("wrong" in read ? read.wrong : undefined);
          if (!("wrong" in read)) onSet(bound.key, read.value);
        }}
      />
      {wrong && (
        <span id={`${id}-wrong`} className="col-start-2 text-rust">
          {wrong}
        </span>
      )}
    </>
  );
}
