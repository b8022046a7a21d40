import { Plus, X } from "lucide-react";
import { useRef, useState } from "react";
import { asFields, type Column, type Fields, type Json, type Line, type Schemas } from "../api/client";
import { readJson, writeJson } from "../api/exact";
import { plural } from "../ui/words";
import { useConnections, useConnectors, useKinds, type Edit } from "../api/queries";
import { JsonInput } from "../connect/ActionForm";
import { Cases, SortKeys, Totals, WholeNumber } from "./controls";
import { ExpressionField } from "./ExpressionField";
import { Options } from "./Options";
import { ProblemText } from "./parts";
import { Picker, useChoices } from "./Picker";

interface Props {
  line: Line;
  cases: Line[]; // those of a branch
  fallback: boolean; // it has one already
  earlier: string[];
  item: Fields | undefined;
  trigger: Fields | undefined;
  row: string | undefined;
  problems: Schemas["Finding"][];
  column: Column | undefined; // how the last rehearsal went through the line
  idOf: (key: string) => string; // a line, also while it is renamed
  onEdit: (edits: Edit[]) => void;
}

type Property = Schemas["Property"];

/** The settings of a line, opened beneath its sentence. */
export function StepForm(props: Props) {
  const { line, onEdit, problems } = props;
  const kinds = useKinds();
  const connectors = useConnectors();
  const connections = useConnections();
  const [connectorName, actionName] = line.type.split(".");
  const connector = connectors.data?.connectors.find((c) => c.name === connectorName);
  const action = connector?.actions.find((a) => a.name === actionName);
  const properties: Property[] =
    action?.fields ?? kinds.data?.steps.find((k) => k.type === line.type)?.settings ?? [];
  const under = action ? "input" : "settings";
  const values = asFields(line.settings);
  const options = asFields(line.options);
  const [more, setMore] = useState(Object.keys(options).length > 0);
  const set = (key: string, value: Json) => {
    onEdit([{ op: "set", step: line.name, key, value }]);
  };
  const kind = kinds.data?.steps.find((k) => k.type === line.type);
  const wanted = action ? connectorName : kind?.needs;
  const fitting =
    connections.data?.connections.filter((c) => wanted === undefined || c.connector === wanted) ?? [];
  const general = problems.filter((p) => !properties.some((q) => p.path.includes(`.${under}.${q.name}`)));
  return (
    <div className="space-y-3.5 pt-2 pr-1 pb-3 pl-1">
      {(action ?? kind?.connects) && (
        <div>
          <label className="label" htmlFor={`${line.name}-connection`}>
            Connection
          </label>
          <select
            id={`${line.name}-connection`}
            className="field"
            value={line.connection ?? ""}
            onChange={(e) => {
              set("connection", e.target.value || null);
            }}
          >
            <option value="">
              {(action ?? kind?.needs) ? "Choose…" : "none: the address is open to everybody"}
            </option>
            {fitting.map((c) => (
              <option key={c.name} value={c.name}>
                {c.name}
                {c.state === "broken" ? ", does not work" : ""}
              </option>
            ))}
          </select>
          {connections.data && fitting.length === 0 && wanted !== undefined && (
            <div className="mt-1 text-amber">
              There is no connection to {connector?.title ?? wanted} yet. Add one under Connections.
            </div>
          )}
        </div>
      )}
      {properties
        .filter((p) => asFields(p.schema)["hint"] !== "steps")
        .map((p) => (
          <Setting
            key={p.name}
            property={p}
            value={values[p.name]}
            form={props}
            values={values}
            onSet={(v) => {
              set(`${under}.${p.name}`, v);
            }}
            problems={problems.filter((q) => q.path.includes(`.${under}.${p.name}`))}
          />
        ))}
      <Counts line={line} column={props.column} />
      {general.map((p, i) => (
        <ProblemText key={i} p={p} />
      ))}
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2 text-second">
        <Name line={line} onEdit={onEdit} />
        <button
          type="button"
          className="hover:text-ink hover:underline"
          aria-expanded={more}
          onClick={() => {
            setMore(!more);
          }}
        >
          {more ? "Less" : "More…"}
        </button>
        <button
          type="button"
          className="hover:text-ink hover:underline"
          onClick={() => {
            set("off", line.off ? null : true);
          }}
        >
          {line.off ? "Switch on" : "Switch off"}
        </button>
      </div>
      {more && (
        <Options
          line={line}
          options={options}
          set={set}
          kind={kind}
          writes={action?.effect === "write"}
          fallback={props.fallback}
          onEdit={onEdit}
        />
      )}
    </div>
  );
}

/** What the last rehearsal says of the line. */
function Counts({ line, column }: { line: Line; column: Column | undefined }) {
  if (!column || column.in === 0) return null;
  const n = (x: number) => x.toLocaleString("en");
  const words =
    line.type === "filter" || line.type === "take" || line.type === "distinct"
      ? `${n(column.out)} of ${n(column.in)} rows went on in the last rehearsal.`
      : line.type === "batch" || line.type === "gather"
        ? `${plural(column.in, "row")} became ${n(column.out)} in the last rehearsal.`
        : line.type === "spread"
          ? `${plural(column.in, "row")} became ${n(column.out)} in the last rehearsal.`
          : line.type === "loop" && column.rounds
            ? `${plural(column.rounds, "round")} in the last rehearsal.`
            : line.type === "branch" && column.ways
              ? `In the last rehearsal: ${column.ways
                  .filter((w) => w.name || w.count > 0)
                  .map((w) => `${w.name ? w.name.replaceAll("_", " ") : "none of them"} ${n(w.count)}`)
                  .join(", ")}.`
              : "";
  return words ? <div className="hint">{words}</div> : null;
}

function Name({ line, onEdit }: { line: Line; onEdit: (edits: Edit[]) => void }) {
  const [name, setName] = useState(line.name);
  return (
    <label className="flex items-center gap-1.5">
      Name
      <input
        className="h-7 w-28 rounded-md border border-rule bg-sheet px-1.5 text-ink"
        value={name}
        onChange={(e) => {
          setName(e.target.value);
        }}
        onBlur={() => {
          if (name !== line.name) onEdit([{ op: "rename", step: line.name, value: name }]);
        }}
        onKeyDown={(e) => {
          if (e.key === "Enter") e.currentTarget.blur();
        }}
      />
    </label>
  );
}

interface SettingProps {
  property: Property;
  value: Json | undefined;
  values: Fields;
  form: Props;
  onSet: (value: Json) => void;
  problems: Schemas["Finding"][];
}

function Setting({ property, value, values, form, onSet, problems }: SettingProps) {
  const schema = asFields(property.schema);
  const id = `${form.line.name}-${property.name}`;
  const title = String(schema["title"] ?? property.name);
  const help = schema["description"] ? String(schema["description"]) : "";
  const shared = { item: form.item, trigger: form.trigger, row: form.row, steps: form.earlier };
  let control: React.ReactNode;
  if (schema["choices"]) {
    control = (
      <Picker
        id={id}
        connection={form.line.connection}
        list={String(schema["choices"])}
        input={values}
        value={value}
        onPick={onSet}
      />
    );
  } else if (schema["hint"] === "condition") {
    control = (
      <ExpressionField
        label={title}
        template={false}
        value={typeof value === "string" ? value : ""}
        onChange={onSet}
        placeholder={examples(schema)}
        {...shared}
      />
    );
  } else if (schema["hint"] === "cases") {
    control = (
      <Cases
        cases={form.cases}
        branch={form.line.name}
        column={form.column}
        problems={problems}
        idOf={form.idOf}
        onEdit={form.onEdit}
        shared={shared}
      />
    );
  } else if (schema["hint"] === "sort_keys") {
    control = <SortKeys value={value} schema={schema} onSet={onSet} shared={shared} />;
  } else if (schema["hint"] === "totals") {
    control = <Totals value={asFields(value)} schema={schema} onSet={onSet} shared={shared} />;
  } else if (schema["type"] === "integer") {
    control = <WholeNumber id={id} value={value} onSet={onSet} />;
  } else if (schema["hint"] === "duration") {
    control = (
      <input
        id={id}
        className="field"
        defaultValue={typeof value === "string" ? value : ""}
        placeholder={examples(schema) || "as 10m, 2h, 3d"}
        onBlur={(e) => {
          onSet(e.target.value.trim() || null);
        }}
      />
    );
  } else if (schema["hint"] === "keep") {
    control = <Keep value={value} onSet={onSet} item={form.item} />;
  } else if (schema["hint"] === "json") {
    control = (
      <JsonInput
        id={id}
        value={value}
        placeholder='{"name": "(= item.… )"}'
        onSet={(v) => {
          onSet(v ?? null);
        }}
      />
    );
  } else if (Array.isArray(schema["enum"])) {
    const preset = schema["default"]; // counts where nothing is said
    control = (
      <select
        id={id}
        className="field"
        value={value === undefined || value === null ? "" : writeJson(value)}
        onChange={(e) => {
          onSet(e.target.value === "" ? null : readJson(e.target.value));
        }}
      >
        <option value="">{preset !== undefined ? wordOf(schema, preset) : "Choose…"}</option>
        {schema["enum"]
          .filter((v) => v !== preset || v === value)
          .map((v) => (
            <option key={String(v)} value={writeJson(v)}>
              {wordOf(schema, v)}
            </option>
          ))}
      </select>
    );
  } else if (schema["hint"] === "list") {
    control = (
      <input
        id={id}
        className="field font-mono text-xs"
        defaultValue={Array.isArray(value) ? value.join(", ") : ""}
        placeholder="names, with commas"
        onBlur={(e) => {
          const l = e.target.value
            .split(",")
            .map((s) => s.trim())
            .filter(Boolean);
          onSet(l.length > 0 ? l : null);
        }}
      />
    );
  } else if (schema["type"] === "object") {
    control = (
      <Pairs
        form={form}
        schema={schema}
        value={asFields(value)}
        values={values}
        onSet={onSet}
        title={title}
      />
    );
  } else {
    control = (
      <ExpressionField
        label={title}
        template
        value={
          value === undefined || value === null ? "" : typeof value === "string" ? value : writeJson(value)
        }
        onChange={(v) => {
          onSet(v === "" ? null : v);
        }}
        placeholder={examples(schema)}
        {...shared}
      />
    );
  }
  return (
    <div>
      <label className="label" htmlFor={id}>
        {title}
        {!property.required && form.line.type.includes(".") && (
          <span className="font-normal text-third"> if wished</span>
        )}
      </label>
      {control}
      {help && problems.length === 0 && <div className="hint mt-1">{help}</div>}
      {problems
        .filter((p) => schema["hint"] !== "cases" || !/\.cases\[\d+\]\./.test(p.path))
        .map((p, i) => (
          <ProblemText key={i} p={p} />
        ))}
    </div>
  );
}

const wordOf = (schema: Fields, v: Json) => {
  const w = asFields(schema["words"])[String(v)];
  return w ? `${String(v)}, ${String(w)}` : String(v);
};

const examples = (schema: Fields) =>
  Array.isArray(schema["examples"]) && schema["examples"].length > 0 ? String(schema["examples"][0]) : "";

function Keep({
  value,
  onSet,
  item,
}: {
  value: Json | undefined;
  onSet: (v: Json) => void;
  item: Fields | undefined;
}) {
  const mode = Array.isArray(value) ? "these" : value === "none" ? "none" : "all";
  const names = Array.isArray(value) ? value.map(String) : [];
  const known = [...new Set([...Object.keys(item ?? {}), ...names])];
  return (
    <div>
      <div className="mb-1.5 flex gap-4">
        {(["all", "these", "none"] as const).map((m) => (
          <label key={m} className="flex items-center gap-1.5">
            <input
              type="radio"
              className="accent-leaf"
              checked={mode === m}
              onChange={() => {
                onSet(m === "these" ? known : m === "all" ? null : m);
              }}
            />
            {m === "all" ? "all fields" : m === "none" ? "none" : "only these"}
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

/** Name to value: the columns of a tab, or fields that a step sets. */
function Pairs({
  form,
  schema,
  value: stored,
  values,
  onSet,
  title,
}: {
  form: Props;
  schema: Fields;
  value: Fields;
  values: Fields;
  onSet: (v: Json) => void;
  title: string;
}) {
  const list = schema["keys"] ? String(schema["keys"]) : undefined;
  const columns = useChoices(form.line.connection, list, values, list !== undefined);
  const [fresh, setFresh] = useState("");
  // What was typed last counts, not what the service has answered so far.
  const [value, setValue] = useState(stored);
  const latest = useRef(stored);
  const change = (next: Fields) => {
    latest.current = next;
    setValue(next);
    onSet(Object.keys(next).length > 0 ? next : null);
  };
  const offered = (columns.data?.options.map((o) => o.name) ?? []).filter((n) => !(n in value));
  const plainText = schema["hint"] === "names";
  const put = (name: string, v: Json) => {
    change({ ...latest.current, [name]: v });
  };
  const add = (name: string) => {
    if (name && !(name in value)) {
      put(name, "");
      setFresh("");
    }
  };
  return (
    <div className="space-y-2">
      {Object.keys(value)
        .sort()
        .map((name) => (
          <div key={name} className="grid grid-cols-[104px_1fr_22px] items-start gap-2">
            <span className="truncate pt-1.5 font-medium" title={name}>
              {name}
            </span>
            {plainText ? (
              <input
                aria-label={name}
                className="field"
                defaultValue={String(value[name] ?? "")}
                onBlur={(e) => {
                  put(name, e.target.value);
                }}
              />
            ) : (
              <ExpressionField
                label={`${title}: ${name}`}
                template
                value={typeof value[name] === "string" ? value[name] : writeJson(value[name])}
                onChange={(v) => {
                  put(name, v);
                }}
                item={form.item}
                trigger={form.trigger}
                row={undefined}
                steps={form.earlier}
                placeholder="text, or (= item.… )"
              />
            )}
            <button
              type="button"
              aria-label={`Remove ${name}`}
              className="pt-2 text-third hover:text-rust"
              onClick={() => {
                change(Object.fromEntries(Object.entries(latest.current).filter(([k]) => k !== name)));
              }}
            >
              <X size={14} />
            </button>
          </div>
        ))}
      {columns.data?.why_empty && <div className="text-amber">{columns.data.why_empty}</div>}
      {offered.length > 0 && (
        <div className="flex flex-wrap gap-1.5">
          {offered.map((n) => (
            <button
              key={n}
              type="button"
              className="flex items-center gap-1 rounded-full border border-rule px-2.5 py-0.5 text-second hover:border-leaf hover:text-leafink"
              onClick={() => {
                add(n);
              }}
            >
              <Plus size={12} aria-hidden />
              {n}
            </button>
          ))}
        </div>
      )}
      {(!list || columns.error) && (
        <div className="flex gap-2">
          <input
            className="field w-40"
            aria-label={`New name in ${title}`}
            placeholder={plainText ? "old name" : "name of a field"}
            value={fresh}
            onChange={(e) => {
              setFresh(e.target.value);
            }}
            onKeyDown={(e) => {
              if (e.key === "Enter") {
                e.preventDefault();
                add(fresh.trim());
              }
            }}
          />
          <button
            type="button"
            className="btn"
            disabled={!fresh.trim()}
            onClick={() => {
              add(fresh.trim());
            }}
          >
            Add
          </button>
        </div>
      )}
    </div>
  );
}
