import { Command } from "cmdk";
import { ChevronDown } from "lucide-react";
import { Popover } from "radix-ui";
import { useDeferredValue, useState } from "react";
import { type Fields, type Json } from "../../api/client";
import { Trouble } from "../../ui/parts";
import type { ControlProps } from "./props";
import { useChoices } from "../../api/connections";

interface Props {
  id: string;
  connection: string | undefined;
  list: string;
  input: Fields;
  value: Json | undefined;
  onPick: (value: Json) => void;
}

/** Picks by name from the application's own list; keeps id and name. */
export function Picker({ id, connection, list, input, value, onPick }: Props) {
  const [open, setOpen] = useState(false);
  const [typed, setTyped] = useState("");
  const searching = useDeferredValue(typed);
  const plain = useChoices(connection, list, input, open);
  const found = useChoices(
    connection,
    list,
    input,
    open && plain.data?.searches === true && searching.trim() !== "",
    searching.trim(),
  );
  const choices = plain.data?.searches && searching.trim() ? found : plain;
  const name =
    value && typeof value === "object" && !Array.isArray(value)
      ? String(value["name"] ?? value["id"])
      : value
        ? String(value)
        : "";
  return (
    <Popover.Root open={open} onOpenChange={setOpen}>
      <Popover.Trigger
        id={id}
        className="field flex items-center justify-between text-left"
        disabled={!connection}
      >
        <span className={name ? "truncate" : "text-third"}>
          {name || (connection ? "Choose…" : "Choose a connection first")}
        </span>
        <ChevronDown size={14} className="text-third" aria-hidden />
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          align="start"
          sideOffset={4}
          className="card z-50 w-[var(--radix-popover-trigger-width)] overflow-hidden shadow-lg"
        >
          <Command label="Choices" shouldFilter={!plain.data?.searches}>
            <Command.Input
              value={typed}
              onValueChange={setTyped}
              placeholder={plain.data?.searches ? "Find by name, or paste its address" : "Find by name"}
              className="h-9 w-full border-b border-rule bg-transparent px-3 outline-none focus:shadow-[inset_0_-2px_0_var(--leaf)]"
            />
            <Command.List className="max-h-64 overflow-auto p-1.5">
              {choices.isFetching && !choices.data && (
                <div className="p-2 text-second">Asking the application…</div>
              )}
              <Trouble error={choices.error} />
              {choices.data?.why_empty && <div className="p-2 text-amber">{choices.data.why_empty}</div>}
              {choices.data && !choices.data.why_empty && (
                <Command.Empty className="p-2 text-second">Nothing is called so.</Command.Empty>
              )}
              {choices.data?.options.map((o) => (
                <Command.Item
                  key={String(o.id)}
                  value={`${o.name} ${String(o.id)}`}
                  className="flex cursor-pointer items-baseline justify-between gap-2 rounded-md px-2.5 py-1.5 data-[selected=true]:bg-tint"
                  onSelect={() => {
                    onPick({ id: o.id as Json, name: o.name });
                    setOpen(false);
                  }}
                >
                  {o.name}
                  <span className="truncate text-xs text-third">{String(o.id)}</span>
                </Command.Item>
              ))}
            </Command.List>
          </Command>
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}

/** Picker as a control of a form. */
export function PickerControl({ id, schema, value, onSet, around }: ControlProps) {
  return (
    <Picker
      id={id}
      connection={around.connection}
      list={String(schema["choices"])}
      input={around.values}
      value={value}
      onPick={onSet}
    />
  );
}
