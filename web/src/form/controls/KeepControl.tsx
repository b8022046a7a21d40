import type { ControlProps } from "./props";

const words = { all: "all fields", these: "only these", none: "none" };

/** Which fields of the item go on. */
export function KeepControl({ id, label, value, onSet, around }: ControlProps) {
  const mode = Array.isArray(value) ? "these" : value === "none" ? "none" : "all";
  const names = Array.isArray(value) ? value.map(String) : [];
  const known = [...new Set([...Object.keys(around.shared?.item ?? {}), ...names])];
  return (
    <div role="radiogroup" aria-label={label}>
      <div className="mb-1.5 flex gap-4">
        {(["all", "these", "none"] as const).map((m) => (
          <label key={m} className="flex items-center gap-1.5">
            <input
              id={m === "all" ? id : undefined}
              type="radio"
              name={id}
              className="accent-leaf"
              checked={mode === m}
              onChange={() => {
                onSet(m === "these" ? known : m === "all" ? undefined : m);
              }}
            />
            {words[m]}
          </label>
        ))}
      </div>
      {mode === "these" && (
        <div className="flex flex-wrap gap-1.5">
          {known.map((n) => {
            const on = names.includes(n);
            return (
              <button
                key={n}
                type="button"
                aria-pressed={on}
                className={`rounded-full border px-2.5 py-0.5 ${on ? "border-leaf bg-tint text-leafink" : "border-rule text-second"}`}
                onClick={() => {
                  onSet(on ? names.filter((x) => x !== n) : [...names, n]);
                }}
              >
                {n}
              </button>
            );
          })}
        </div>
      )}
    </div>
  );
}
