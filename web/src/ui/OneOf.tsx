import { useId } from "react";

/** One of a few ways, each a line to choose. */
export function OneOf<T extends string>({
  label,
  ways,
  chosen,
  onChoose,
}: {
  label: string;
  ways: readonly { value: T; words: string; help?: string }[];
  chosen: T | undefined;
  onChoose: (way: T) => void;
}) {
  const name = useId();
  return (
    <div role="radiogroup" aria-label={label} className="space-y-1">
      {ways.map((w) => (
        <label key={w.value} className="flex items-baseline gap-2">
          <input
            type="radio"
            name={name}
            className="accent-leaf"
            checked={chosen === w.value}
            onChange={() => {
              onChoose(w.value);
            }}
          />
          <span>
            {w.words} {w.help && <span className="text-second">{w.help}</span>}
          </span>
        </label>
      ))}
    </div>
  );
}
