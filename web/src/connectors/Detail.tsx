import { Tabs } from "radix-ui";
import { toast } from "sonner";
import type { Connector } from "../api/client";
import { useConnections } from "../api/connections";
import { useConnectorChanges, useConnectorDocument } from "../api/connectors";
import { Badge, Trouble, Waiting } from "../ui/parts";
import { Action } from "./Action";
import { Tries } from "./Tries";
import { Ways } from "./Ways";

/** A connector: what it can do, one action to try, and its document. */
export function Detail({ c, trying }: { c: Connector; trying: string | undefined }) {
  const full = useConnectorDocument(c.name);
  const connections = useConnections();
  const usable =
    connections.data?.connections.filter((k) => k.connector === c.name && k.state === "ok") ?? [];
  const { remove } = useConnectorChanges();
  return (
    <section className="min-w-0" aria-label={c.title}>
      <div className="mb-2 flex items-baseline gap-2.5">
        <h2 className="font-serif text-[18px] font-semibold">{c.title}</h2>
        <span className="text-second">{c.about}</span>
      </div>
      <div className="mb-3 flex flex-wrap items-center gap-x-3 gap-y-1 text-xs text-second">
        <span>
          version {c.version}
          {c.author ? `, by ${c.author}` : ""}
        </span>
        {c.limits && <span>takes {c.limits}</span>}
        {c.docs && (
          <a className="text-leafink underline" href={c.docs} target="_blank" rel="noreferrer noopener">
            its documentation
          </a>
        )}
        {c.own && (
          <button
            className="underline"
            onClick={() => {
              remove.mutate(c.name, { onSuccess: () => toast(`Removed ${c.title}`) });
            }}
          >
            remove
          </button>
        )}
      </div>
      <Trouble error={remove.error} />
      <Tabs.Root defaultValue={trying ? "try" : "read"}>
        <Tabs.List className="mb-3 flex gap-1 border-b border-rule" aria-label={c.title}>
          <Tab value="read">What it can do</Tab>
          <Tab value="try">Try one action</Tab>
          <Tab value="document">Its document</Tab>
        </Tabs.List>
        <Tabs.Content value="read" className="space-y-2">
          <Ways c={c} connected={full.data?.used_by ?? []} />
          {c.actions.map((a) => (
            <Action key={a.name} c={c} a={a} />
          ))}
          {c.triggers.map((t) => (
            <div key={t.name} className="card px-4 py-2.5">
              <span className="font-serif text-[15.5px]">{t.sentence}</span>{" "}
              <Badge>{t.kind === "polling" ? "looks again and again" : "is told"}</Badge>
              {t.instructions && <div className="mt-1 text-second">{t.instructions}</div>}
            </div>
          ))}
        </Tabs.Content>
        <Tabs.Content value="try">
          {connections.isPending && <Waiting what="Reading the accounts" />}
          {!connections.isPending && <Tries c={c} connections={usable.map((k) => k.name)} first={trying} />}
        </Tabs.Content>
        <Tabs.Content value="document">
          <pre className="card max-h-[65vh] overflow-auto p-4 font-mono text-xs">{full.data?.document}</pre>
        </Tabs.Content>
      </Tabs.Root>
    </section>
  );
}

function Tab({ value, children }: { value: string; children: string }) {
  return (
    <Tabs.Trigger
      value={value}
      className="-mb-px border-b-2 border-transparent px-3 py-1.5 text-second data-[state=active]:border-leaf data-[state=active]:font-semibold data-[state=active]:text-ink"
    >
      {children}
    </Tabs.Trigger>
  );
}
