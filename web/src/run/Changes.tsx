import type { Fields, Json } from "../api/client";
import { writeJson } from "../api/exact";
import { FieldList } from "../lattice/FieldList";
import { brief } from "../ui/words";

const same = (a: Json | undefined, b: Json | undefined) => writeJson(a) === writeJson(b);

/** What a step changed of an item, instead of the same fields twice. */
export function Changes({ before, after }: { before: Fields; after: Fields }) {
  const names = [...new Set([...Object.keys(before), ...Object.keys(after)])].sort();
  const fresh = names.filter((n) => !(n in before));
  const gone = names.filter((n) => !(n in after));
  const other = names.filter((n) => n in before && n in after && !same(before[n], after[n]));
  if (fresh.length + gone.length + other.length === 0)
    return <div className="text-second">Nothing of it was changed.</div>;
  if (other.length === 0 && gone.length === Object.keys(before).length && gone.length > 0)
    return <FieldList fields={after} />;
  return (
    <dl className="grid grid-cols-[minmax(70px,auto)_1fr] gap-x-5 gap-y-1">
      {fresh.map((n) => (
        <Line key={n} name={n} sign="new">
          <span className="rounded bg-tint px-1">{brief(after[n])}</span>
        </Line>
      ))}
      {other.map((n) => (
        <Line key={n} name={n} sign="changed">
          <span className="rounded bg-tint px-1">{brief(after[n])}</span>{" "}
          <span className="text-third">was {brief(before[n])}</span>
        </Line>
      ))}
      {gone.map((n) => (
        <Line key={n} name={n} sign="gone">
          <s className="text-third">{brief(before[n])}</s>
        </Line>
      ))}
    </dl>
  );
}

function Line({ name, sign, children }: { name: string; sign: string; children: React.ReactNode }) {
  return (
    <>
      <dt className="truncate text-second" title={sign}>
        {name} <span className="text-xs text-third">{sign}</span>
      </dt>
      <dd className="min-w-0 break-words">{children}</dd>
    </>
  );
}
