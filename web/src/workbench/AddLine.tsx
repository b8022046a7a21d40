import { useNavigate } from "@tanstack/react-router";
import { Command } from "cmdk";
import { useMemo, useState } from "react";
import { asFields, type Fields, type Json, type Schemas } from "../api/client";
import { useConnections } from "../api/connections";
import { useConnectors, useKinds } from "../api/connectors";
import { useFirstFocus } from "../ui/useFirstFocus";
import { findLines, ifItFails, startsIt } from "./findLines";
import { firstName } from "./lines";
import { offersOf } from "./offers";

interface Props {
  taken: string[];
  prompt: string;
  onAdd: (step: { [key: string]: Json }) => void;
  onLeave?: () => void; // it stands here for one line only
  begins?: boolean; // there is no line yet
  onStart?: () => void; // opens what starts the workflow
  onFails?: () => void; // says what is done where the line above fails
}

/** How many are offered at once. */
const MOST = 40;

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

/**
 * What a line can be. Nothing is offered before the accounts are known: a line that was added then would have none,
 * though there is one.
 */
function useOffers() {
  const kinds = useKinds();
  const connectors = useConnectors();
  const connections = useConnections();
  const reading = kinds.isPending || connectors.isPending || connections.isPending;
  const offers = useMemo(
    () =>
      reading
        ? []
        : offersOf(
            kinds.data?.steps ?? [],
            connectors.data?.connectors ?? [],
            connections.data?.connections ?? [],
          ),
    [reading, kinds.data, connectors.data, connections.data],
  );
  return { kinds, connections, reading, offers };
}

/** Adds a line by typing what it should do. */
export function AddLine({ taken, prompt, onAdd, onLeave, begins = false, onStart, onFails }: Props) {
  const focus = useFirstFocus<HTMLInputElement>(onLeave !== undefined || begins);
  const { kinds, connections, reading, offers } = useOffers();
  const [text, setText] = useState("");
  const [open, setOpen] = useState(false);
  const navigate = useNavigate();
  const found = useMemo(() => findLines(offers, text), [offers, text]);
  const starts = onStart ? startsIt(text) : undefined;
  const fails = onFails !== undefined && ifItFails(text);
  const close = () => {
    setText("");
    setOpen(false);
  };
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
    close();
  };
  return (
    <Command
      label="Add a line"
      shouldFilter={false}
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
        {starts && (
          <Item
            value="starts"
            title="Change what starts the workflow"
            help={`${starts === "time" ? "A time" : "What happens outside"} stands in its first line, not in a line of its own.`}
            onTake={() => {
              close();
              onStart?.();
            }}
          />
        )}
        {fails && (
          <Item
            value="fails"
            title="Do other lines where the line above fails"
            help="Only the items that fail go through them, and then go on."
            onTake={() => {
              close();
              onFails();
            }}
          />
        )}
        {found.slice(0, MOST).map((o) => (
          <Item
            key={o.type}
            value={o.type}
            title={o.title}
            help={
              o.app === ""
                ? o.help
                : `${o.app}, ${o.writes ? "writes" : "reads"}${o.connected ? "" : "; there is no account yet"}`
            }
            onTake={() => {
              add(o.type, o.app !== "");
            }}
          />
        ))}
        {reading && <div className="px-3 py-2 text-second">Looking…</div>}
        {!reading && found.length === 0 && !starts && !fails && (
          <Instead
            onCall={() => {
              add("http", false);
            }}
            onImport={() => {
              void navigate({ to: "/connectors" });
            }}
          />
        )}
      </Command.List>
    </Command>
  );
}

/** What can be done where nothing was found. */
function Instead({ onCall, onImport }: { onCall: () => void; onImport: () => void }) {
  return (
    <>
      <div className="px-3 pt-2 pb-1 text-second">Nothing does that yet. What there is instead:</div>
      <Item
        value="http"
        title="Call an address"
        help="Any application that is called over HTTP."
        onTake={onCall}
      />
      <Item
        value="import"
        title="Add an application"
        help="From its OpenAPI document, or a call that was copied."
        onTake={onImport}
      />
    </>
  );
}

/** Something that can be taken. */
function Item({
  value,
  title,
  help,
  onTake,
}: {
  value: string;
  title: string;
  help: string;
  onTake: () => void;
}) {
  return (
    <Command.Item
      value={value}
      className="cursor-pointer rounded-md px-3 py-1.5 data-[selected=true]:bg-tint"
      onSelect={onTake}
    >
      <div className="font-medium">{title}</div>
      <div className="hint">{help}</div>
    </Command.Item>
  );
}
