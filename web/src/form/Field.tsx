import { Dialog } from "radix-ui";
import { useState, type ReactNode } from "react";
import { asFields, type Json, type Schemas } from "../api/client";
import { controls } from "./controls";
import { TemplateControl } from "./controls/ExpressionControl";
import type { Around } from "./controls/props";
import { hasSecondWay, isExpression, kindOf, type Kind } from "./kind";
import { Frame } from "../ui/Frame";
import { useFocus } from "./focus";
import { Problems } from "./Problems";

interface Props {
  id: string;
  property: Schemas["Property"];
  value: Json | undefined;
  onSet: (v: Json | undefined) => void;
  around: Around;
  problems?: Schemas["Finding"][];
  optional?: boolean; // says so where it need not be filled in
  expressions?: boolean; // one may stand in place of the value
  children?: ReactNode; // the control, where the form has one of its own
}

/** A field: what it is called, the control of its type or an expression, and what is wrong with it. */
export function Field(props: Props) {
  const { id, property, value, problems = [] } = props;
  const schema = asFields(property.schema);
  const title = String(schema["title"] ?? property.name);
  const help = schema["description"] ? String(schema["description"]) : "";
  const [asked, setAsked] = useState<boolean>();
  const kind = kindOf(schema);
  const second = props.expressions === true && props.children === undefined && hasSecondWay(kind);
  const byExpression = second && (asked ?? isExpression(value));
  const focus = useFocus();
  const [wide, setWide] = useState(false);
  return (
    <div
      onFocusCapture={() => {
        // A value that is chosen while the cursor is here makes it an expression.
        if (second && !byExpression)
          focus.current = (path) => {
            setAsked(true);
            props.onSet(`(= ${path} )`);
          };
      }}
    >
      <div className="flex items-baseline justify-between gap-3">
        <label className="label" htmlFor={byExpression ? undefined : id}>
          {title}
          {!property.required && props.optional && <span className="font-normal text-third"> if wished</span>}
        </label>
        {kind === "long_text" && (
          <button
            type="button"
            className="ml-auto text-xs text-third hover:text-ink hover:underline"
            aria-label={`Open ${title} wide`}
            onClick={() => {
              setWide(true);
            }}
          >
            wide
          </button>
        )}
        {second && (
          <button
            type="button"
            className="text-xs text-third hover:text-ink hover:underline"
            aria-label={byExpression ? `Fill in ${title} by hand` : `Make ${title} by an expression`}
            onClick={() => {
              setAsked(!byExpression);
            }}
          >
            {byExpression ? "by hand" : "by an expression"}
          </button>
        )}
      </div>
      {props.children ?? <Control {...props} kind={kind} title={title} byExpression={byExpression} />}
      <Dialog.Root open={wide} onOpenChange={setWide}>
        <Frame title={title} wide>
          <div className="wide-text">
            <Control {...props} id={`${id}-wide`} kind={kind} title={title} byExpression={byExpression} />
          </div>
          <div className="mt-4 flex justify-end">
            <Dialog.Close className="btn btn-main">Done</Dialog.Close>
          </div>
        </Frame>
      </Dialog.Root>
      {second && !byExpression && isExpression(value) && (
        <div className="hint mt-1">
          Until it is filled in, it is made by <code className="font-mono">{value}</code>.
        </div>
      )}
      {help && problems.length === 0 && <div className="hint mt-1">{help}</div>}
      <Problems list={problems} />
    </div>
  );
}

function Control({
  id,
  property,
  value,
  onSet,
  around,
  problems = [],
  kind,
  title,
  byExpression,
}: Props & { kind: Kind; title: string; byExpression: boolean }) {
  const schema = asFields(property.schema);
  const required = property.required && !around.shared;
  const all = { id, label: title, schema, value, onSet, around, problems, required };
  if (byExpression) return <TemplateControl {...all} />;
  if (kind === "cases" || kind === "steps") return null;
  // Text takes expressions by itself where there can be some.
  if (around.shared && (kind === "text" || kind === "long_text")) return <TemplateControl {...all} />;
  // Objects are columns where no expression can stand in them, and pairs where one can.
  const plain = (kind === "pairs" && !around.shared) || (kind === "rows" && around.shared);
  const Chosen = plain ? controls.json : controls[kind];
  return <Chosen {...all} value={isExpression(value) && hasSecondWay(kind) ? undefined : value} />;
}
