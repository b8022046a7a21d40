import { asFields, type Schemas } from "../../api/client";
import { when } from "../../ui/words";
import { sampleRest } from "../sampleWords";

interface Props {
  number: number;
  sample: Schemas["Sample"];
  result: Schemas["Differs"] | undefined; // whether it became what is expected
  onEdit: () => void;
  onExpect: () => void;
  onCopy: () => void;
  onRemove: () => void;
}

/** A sample: what it is called, its other fields, and whether it becomes what is expected of it. */
export function SampleRow({ number, sample, result, onEdit, onExpect, onCopy, onRemove }: Props) {
  const name = sample.label || "without a name";
  const acts: [string, () => void][] = [
    ["edit", onEdit],
    ["expect", onExpect],
    ["copy", onCopy],
    ["remove", onRemove],
  ];
  return (
    <div className="flex items-baseline gap-2 border-t border-rule py-1 first-of-type:border-0">
      <span className="w-5 text-right text-third tabular-nums">{number}</span>
      <span className="min-w-0 flex-1" title={`${sample.source}, ${when(sample.created)}`}>
        <span className="block truncate font-medium">{name}</span>
        <span className="block truncate text-xs text-second">
          {sampleRest(asFields(sample.fields), name)}
        </span>
        {sample.expected && <Expected expected={sample.expected} result={result} />}
      </span>
      {acts.map(([word, act]) => (
        <button
          key={word}
          type="button"
          className={`text-xs text-third hover:underline ${word === "remove" ? "hover:text-rust" : "hover:text-ink"}`}
          aria-label={`${word === "expect" ? "say what is expected of" : word} sample ${String(number)}, ${name}`}
          onClick={act}
        >
          {word}
        </button>
      ))}
    </div>
  );
}

function Expected({
  expected,
  result,
}: {
  expected: Schemas["Expected"];
  result: Schemas["Differs"] | undefined;
}) {
  if (!result) {
    const fields = Object.keys(asFields(expected.fields));
    return (
      <span className="block text-xs text-second">
        expected: {[expected.fate?.replaceAll("_", " "), ...fields].filter(Boolean).join(", ")}
      </span>
    );
  }
  return result.differs.length === 0 ? (
    <span className="block text-xs text-leafink">● as expected</span>
  ) : (
    <span className="block text-xs text-rust">▲ {result.differs.join("; ")}</span>
  );
}
