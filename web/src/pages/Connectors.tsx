import { useNavigate, useSearch } from "@tanstack/react-router";
import { Dialog } from "radix-ui";
import { useState } from "react";
import { toast } from "sonner";
import type { Connector } from "../api/client";
import { useConnectors } from "../api/connectors";
import { ImportOpenAPI } from "../connect/ImportOpenAPI";
import { PasteCall } from "../connect/PasteCall";
import { Detail } from "../connectors/Detail";
import { Frame } from "../ui/Frame";
import { Badge, Trouble, Waiting } from "../ui/parts";
import { plural } from "../ui/words";

export function Connectors() {
  const list = useConnectors();
  const search: { connector?: string; try?: string } = useSearch({ strict: false });
  const navigate = useNavigate();
  const [find, setFind] = useState("");
  const all = list.data?.connectors ?? [];
  const shown = all.filter((c) =>
    `${c.title} ${c.about} ${c.actions.map((a) => a.title).join(" ")}`
      .toLowerCase()
      .includes(find.toLowerCase()),
  );
  const chosen = all.find((c) => c.name === search.connector) ?? shown[0];
  const choose = (name: string) => {
    void navigate({ to: "/connectors", search: { connector: name } });
  };
  return (
    <div className="mx-auto max-w-[1240px] px-5 py-4">
      <div className="mb-3 flex items-center justify-between">
        <h1>Connectors</h1>
        <div className="flex gap-2">
          <Paste />
          <Import
            onAdded={(c) => {
              setFind("");
              choose(c.name);
            }}
          />
        </div>
      </div>
      <Trouble error={list.error} />
      {list.isPending && <Waiting what="Reading the connectors" />}
      {list.data && (
        <div className="grid gap-4 lg:grid-cols-[300px_1fr]">
          <div className="self-start">
            <input
              className="field mb-2"
              aria-label="Find a connector or an action"
              placeholder="Find by what it does"
              value={find}
              onChange={(e) => {
                setFind(e.target.value);
              }}
            />
            <div className="card overflow-hidden">
              {shown.map((c) => (
                <button
                  key={c.name}
                  className={`block w-full border-b border-rule px-3 py-2 text-left last:border-0 ${c.name === chosen?.name ? "bg-tint" : "hover:bg-tint/60"}`}
                  aria-current={c.name === chosen?.name}
                  onClick={() => {
                    choose(c.name);
                  }}
                >
                  <span className="font-semibold">{c.title}</span>
                  {c.own && (
                    <span className="ml-1.5">
                      <Badge>made here</Badge>
                    </span>
                  )}
                  <span className="float-right text-xs text-second">
                    {plural(c.actions.length, "action")}
                  </span>
                </button>
              ))}
              {shown.length === 0 && (
                <div className="p-3 text-second">
                  Nothing does that yet. Paste a call, or import the application’s OpenAPI document.
                </div>
              )}
            </div>
          </div>
          {chosen && <Detail key={`${chosen.name} ${search.try ?? ""}`} c={chosen} trying={search.try} />}
        </div>
      )}
    </div>
  );
}

function Paste() {
  return (
    <Dialog.Root>
      <Dialog.Trigger className="btn">Paste a call</Dialog.Trigger>
      <Frame title="Paste a call" wide>
        <PasteCall />
      </Frame>
    </Dialog.Root>
  );
}

function Import({ onAdded }: { onAdded: (c: Connector) => void }) {
  const [open, setOpen] = useState(false);
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Trigger className="btn">Import OpenAPI</Dialog.Trigger>
      <Frame title="Import an OpenAPI document" wide>
        <ImportOpenAPI
          onAdded={(c) => {
            toast(`Added ${c.title}`);
            setOpen(false);
            onAdded(c);
          }}
        />
      </Frame>
    </Dialog.Root>
  );
}
