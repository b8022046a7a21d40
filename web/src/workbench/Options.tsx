import type { Fields, Json, Kind, Line } from "../api/client";
import type { Edit } from "../api/draft";

interface Props {
  line: Line;
  options: Fields;
  kind: Kind | undefined; // none for the action of an application
  writes: boolean;
  fallback: boolean; // it has one
  set: (key: string, v: Json) => void;
  onEdit: (edits: Edit[]) => void;
}

/** What goes beyond a line's own settings: what goes on, what happens when something is missing, late, or fails. */
export function Options({ line, options, kind, writes, fallback, set, onEdit }: Props) {
  const does = kind === undefined ? "calls" : kind.does;
  const output = String(options["output"] ?? "replace");
  const id = (k: string) => `${line.name}-${k}`;
  const single = does === undefined || does === "calls" || does === "spreads";
  const fails = (to: string) => {
    if (to === "fallback")
      onEdit([
        { op: "set", step: line.name, key: "on_error", value: to },
        ...(fallback ? [] : [{ op: "set", step: line.name, key: "fallback", value: [] }]),
      ]);
    else if (fallback)
      onEdit([
        { op: "remove", step: `${line.name}/fallback` },
        ...(to === "stop" ? [] : [{ op: "set", step: line.name, key: "on_error", value: to }]),
      ]);
    else set("on_error", to === "stop" ? null : to);
  };
  return (
    <div className="grid grid-cols-2 gap-3 rounded-lg border border-rule bg-sheet p-3">
      {does === "calls" && <Output line={line} output={output} set={set} />}
      {does !== "ends" && (
        <div>
          <label className="label" htmlFor={id("on_error")}>
            {does === "holds" || does === "picks" ? "If it fails" : "If it fails for an item"}
          </label>
          <select
            id={id("on_error")}
            className="field"
            value={String(options["on_error"] ?? "stop")}
            onChange={(e) => {
              fails(e.target.value);
            }}
          >
            <option value="stop">stop the run</option>
            <option value="set_aside">set the item aside and go on</option>
            {single && <option value="continue">go on with the item as it came</option>}
            {single && <option value="fallback">do other lines instead</option>}
          </select>
        </div>
      )}
      {(line.lists === true || does === "spreads") && (
        <Chosen
          {...{ line, options, set }}
          name="when_none"
          title="If there is nothing"
          preset="end"
          choices={[
            ["end", "the item ends here"],
            ["pass", "the item goes on as it is"],
            ["fail", "that is a failure"],
          ]}
        />
      )}
      {does === "holds" && (
        <Chosen
          {...{ line, options, set }}
          name="when_none"
          title="If no item comes"
          preset="end"
          choices={[
            ["end", "nothing goes on"],
            ["fail", "that is a failure"],
          ]}
        />
      )}
      {(does === "holds" || does === "picks") && (
        <Chosen
          {...{ line, options, set }}
          name="late"
          title="Items that come late, after a mending"
          preset="leave"
          choices={[
            ["leave", "wait until one decides"],
            ["alone", "go on in a list of their own"],
            ...(does === "holds" ? [["again", "the list is made again with them"] as [string, string]] : []),
          ]}
        />
      )}
      {writes && (
        <div>
          <label className="label" htmlFor={id("parallel")}>
            Items at once
          </label>
          <input
            id={id("parallel")}
            className="field"
            type="number"
            min={1}
            max={64}
            defaultValue={Number(options["parallel"] ?? 1)}
            onBlur={(e) => {
              const n = Number(e.target.value);
              set("parallel", n > 1 ? n : null);
            }}
          />
        </div>
      )}
      <div className="col-span-2">
        <label className="label" htmlFor={id("note")}>
          A word to colleagues
        </label>
        <input
          id={id("note")}
          className="field"
          defaultValue={line.note ?? ""}
          onBlur={(e) => {
            set("note", e.target.value || null);
          }}
        />
      </div>
    </div>
  );
}

/** What of a call's answer goes on. */
function Output({ line, output, set }: { line: Line; output: string; set: Props["set"] }) {
  const id = (k: string) => `${line.name}-${k}`;
  return (
    <>
      <div>
        <label className="label" htmlFor={id("output")}>
          What goes on
        </label>
        <select
          id={id("output")}
          className="field"
          value={output.startsWith("under") ? "under" : output}
          onChange={(e) => {
            set(
              "output",
              e.target.value === "under"
                ? `under ${line.name}`
                : e.target.value === "replace"
                  ? null
                  : "keep",
            );
          }}
        >
          <option value="replace">the answer itself</option>
          <option value="under">the item, with the answer as a field</option>
          <option value="keep">the item as it came</option>
        </select>
      </div>
      {output.startsWith("under ") && (
        <div>
          <label className="label" htmlFor={id("under")}>
            Name of the field
          </label>
          <input
            id={id("under")}
            className="field"
            defaultValue={output.slice(6)}
            onBlur={(e) => {
              set("output", `under ${e.target.value || line.name}`);
            }}
          />
        </div>
      )}
    </>
  );
}

/** One of some ways; the usual one is not written down. */
function Chosen({
  line,
  options,
  set,
  name,
  title,
  preset,
  choices,
}: Pick<Props, "line" | "options" | "set"> & {
  name: string;
  title: string;
  preset: string;
  choices: [string, string][];
}) {
  const id = `${line.name}-${name}`;
  return (
    <div>
      <label className="label" htmlFor={id}>
        {title}
      </label>
      <select
        id={id}
        className="field"
        value={String(options[name] ?? preset)}
        onChange={(e) => {
          set(name, e.target.value === preset ? null : e.target.value);
        }}
      >
        {choices.map(([value, words]) => (
          <option key={value} value={value}>
            {words}
          </option>
        ))}
      </select>
    </div>
  );
}
