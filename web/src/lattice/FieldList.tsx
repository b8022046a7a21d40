import { useState } from "react";
import type { Fields, Json } from "../api/client";
import { writeJson } from "../api/exact";
import { pathOf } from "../form/finder/paths";
import { brief, visible } from "../ui/words";

const LONG = 4000;

/** An item's fields. Choosing a name puts it into the expression in focus. */
export function FieldList({
  fields,
  onUse,
  path = "item",
}: {
  fields: Fields;
  onUse?: ((path: string) => void) | undefined;
  path?: string;
}) {
  const names = Object.keys(fields).sort();
  if (names.length === 0) return <div className="text-third">no fields</div>;
  return (
    <dl className="grid grid-cols-[minmax(70px,auto)_1fr] gap-x-5 gap-y-1">
      {names.map((n) => (
        <Field key={n} name={n} value={fields[n] ?? null} onUse={onUse} path={pathOf(path, [n])} />
      ))}
    </dl>
  );
}

/** A value; choosing it is choosing its field. */
function Plain({
  value,
  onUse,
  path,
}: {
  value: Json;
  onUse: ((path: string) => void) | undefined;
  path: string;
}) {
  const look = value === null || value === "" ? "text-third italic" : "";
  if (!onUse) return <span className={look}>{brief(value)}</span>;
  return (
    <button
      type="button"
      tabIndex={-1} // its name beside it is reached by keys
      className={`rounded px-0.5 text-left break-words hover:bg-tint ${look}`}
      title={`Use ${path}`}
      onMouseDown={(e) => {
        e.preventDefault();
      }}
      onClick={() => {
        onUse(path);
      }}
    >
      {brief(value)}
    </button>
  );
}

function Field({
  name,
  value,
  onUse,
  path,
}: {
  name: string;
  value: Json;
  onUse: ((path: string) => void) | undefined;
  path: string;
}) {
  const [open, setOpen] = useState(false);
  const deep = value !== null && typeof value === "object";
  return (
    <>
      <dt className="truncate text-second">
        {onUse ? (
          <button
            type="button"
            className="rounded px-0.5 hover:bg-tint hover:text-leafink hover:underline"
            title={`Use ${path}`}
            onMouseDown={(e) => {
              e.preventDefault();
            }}
            onClick={() => {
              onUse(path);
            }}
          >
            {visible(name)}
          </button>
        ) : (
          visible(name)
        )}
      </dt>
      <dd className="min-w-0 break-words">
        {deep ? (
          <>
            <button
              type="button"
              className="px-0.5 text-left hover:underline"
              aria-expanded={open}
              onClick={() => {
                setOpen(!open);
              }}
            >
              {brief(value)}
            </button>
            {open &&
              (Array.isArray(value) ? (
                <pre className="mt-1 max-h-60 overflow-auto font-mono text-xs">
                  {writeJson(value, 2).slice(0, LONG)}
                </pre>
              ) : (
                <div className="mt-1 border-l border-rule pl-3">
                  <FieldList fields={value} onUse={onUse} path={path} />
                </div>
              ))}
          </>
        ) : (
          <Plain value={value} onUse={onUse} path={path} />
        )}
      </dd>
    </>
  );
}
