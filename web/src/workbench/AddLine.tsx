import { Command } from "cmdk";
import { useState } from "react";
import { asFields, type Fields, type Json, type Schemas } from "../api/client";
import { unused } from "./lines";
import { useConnections, useConnectors, useKinds } from "../api/queries";
import { useFirstFocus } from "../ui/useFirstFocus";

interface Props {
  taken: string[];
  prompt: string;
  onAdd: (step: { [key: string]: Json }) => void;
  onLeave?: () => void; // it stands here for one line only
}

const firstName = (type: string, taken: string[]) =>
  unused((type.split(".")[1] ?? type).replace(/[^a-z0-9_]/g, "_"), taken);

/** The settings of a new line: what holds steps has a place for them. */
const fresh = (settings: Schemas["Property"][]): Fields => {
  const out: Fields = {};
  for (const p of settings) {
    const hint = asFields(p.schema)["hint"];
    if (hint === "cases") out[p.name] = [{ name: "first", when: "", steps: [] }];
    if (hint === "steps" && p.name === "steps") out[p.name] = [];
  }
  return out;
};

/** Adds a line by typing what it should do. */
export function AddLine({ taken, prompt, onAdd, onLeave }: Props) {
  const focus = useFirstFocus<HTMLInputElement>(onLeave !== undefined);
  const kinds = useKinds();
  const connectors = useConnectors();
  const connections = useConnections();
  const [text, setText] = useState("");
  const [open, setOpen] = useState(false);
  const add = (type: string, action: boolean) => {
    const name = firstName(type, taken);
    const fitting = connections.data?.connections.filter((c) => c.connector === type.split(".")[0]) ?? [];
    onAdd({
      name,
      type,
      ...(action
        ? { input: {}, ...(fitting.length === 1 ? { connection: fitting[0]?.name ?? "" } : {}) }
        : { settings: fresh(kinds.data?.steps.find((k) => k.type === type)?.settings ?? []) }),
    });
    setText("");
    setOpen(false);
  };
  const row = "cursor-pointer rounded-md px-3 py-1.5 data-[selected=true]:bg-tint";
  return (
    <Command
      label="Add a line"
      className="relative border-t border-dashed border-rule"
      onKeyDown={(e) => {
        if (e.key === "Escape") {
          setOpen(false);
          onLeave?.();
        }
      }}
    >
      <Command.Input
        value={text}
        onValueChange={(v) => {
          setText(v);
          setOpen(true);
        }}
        onFocus={() => {
          setOpen(true);
        }}
        ref={focus}
        onBlur={() => {
          setTimeout(() => {
            setOpen(false);
            onLeave?.();
          }, 150);
        }}
        placeholder={prompt}
        className="h-11 w-full bg-transparent px-1 font-serif text-[15.5px] italic outline-none focus:shadow-[inset_0_-2px_0_var(--leaf)]"
      />
      <Command.List className={`card z-20 max-h-72 overflow-auto p-1.5 shadow-lg ${open ? "" : "hidden"}`}>
        <Command.Empty className="p-3 text-second">
          Nothing does that yet. Try: keep, read, add, find, build.
        </Command.Empty>
        {kinds.data?.steps.map((k) => (
          <Command.Item
            key={k.type}
            value={`${k.title} ${k.type} ${k.help}`}
            className={row}
            onSelect={() => {
              add(k.type, false);
            }}
          >
            <div className="font-medium">{k.title}</div>
            <div className="hint">{k.help}</div>
          </Command.Item>
        ))}
        {connectors.data?.connectors.flatMap((c) =>
          c.actions.map((a) => (
            <Command.Item
              key={`${c.name}.${a.name}`}
              value={`${a.title} ${c.title} ${a.effect}`}
              className={row}
              onSelect={() => {
                add(`${c.name}.${a.name}`, true);
              }}
            >
              <div className="font-medium">{a.title}</div>
              <div className="hint">
                {c.title}, {a.effect === "read" ? "reads" : "writes"}
              </div>
            </Command.Item>
          )),
        )}
      </Command.List>
    </Command>
  );
}
