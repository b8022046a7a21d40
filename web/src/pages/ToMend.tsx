import { Link } from "@tanstack/react-router";
import { useState } from "react";
import type { Schemas } from "../api/client";
import { Mark } from "../lattice/marks";
import { fateWords } from "../lattice/shape";
import { MendButton } from "../mend/MendButton";
import { useGroups, useItems, useMend } from "../api/mending";
import { Nothing, Trouble, Waiting } from "../ui/parts";
import { plural, when } from "../ui/words";
import { toldWithUndo } from "../ui/toldWithUndo";

type Group = Schemas["ItemGroup"];

/** What waits for somebody: items set aside, grouped by error, and sends to confirm. */
export function ToMend() {
  const groups = useGroups();
  return (
    <div className="mx-auto max-w-[1240px] px-5 py-4">
      <div className="mb-3 flex items-baseline gap-3">
        <h1>To mend</h1>
        {groups.data && groups.data.total > 0 && (
          <span className="text-second">
            {plural(groups.data.total, "item")}, by what {groups.data.total === 1 ? "it" : "they"} came to
          </span>
        )}
      </div>
      <Trouble error={groups.error} />
      {groups.isPending && <Waiting what="Reading what waits" />}
      {groups.data?.groups.length === 0 && (
        <Nothing>
          Nothing waits for anybody. Items that fail and are set aside stand here, and calls that may have
          been sent.
        </Nothing>
      )}
      <div className="space-y-3">
        {groups.data?.groups.map((g) => (
          <OneGroup key={`${g.workflow} ${g.step} ${g.kind} ${g.alike}`} group={g} />
        ))}
      </div>
    </div>
  );
}

function OneGroup({ group: g }: { group: Group }) {
  const [open, setOpen] = useState(false);
  const { dismiss } = useMend();
  const where = { workflow: g.workflow, step: g.step, kind: g.kind, alike: g.alike };
  const dismissed = () => {
    toldWithUndo(`${plural(g.items, "item")} dismissed`, () => {
      dismiss.mutate({ where, restore: true });
    });
  };
  const doubt = g.kind === "may_have_been_sent";
  return (
    <section className="card overflow-hidden" aria-label={`${g.title}: ${g.why}`}>
      <div className="flex items-start gap-4 p-4">
        <span className="mt-1">
          <Mark fate={g.kind} />
        </span>
        <div className="min-w-0 flex-1">
          <div className={`font-medium ${doubt ? "text-amber" : "text-rust"}`}>
            {g.why || fateWords(g.kind)}
          </div>
          <div className="mt-0.5 text-second">
            <b className="font-semibold text-ink">{plural(g.items, "item")}</b>{" "}
            {doubt ? "may have been sent" : "set aside"} at{" "}
            <b className="font-medium text-ink">{g.sentence}</b> of{" "}
            <Link className="underline" to="/workflows/$workflow" params={{ workflow: g.workflow }}>
              {g.title}
            </Link>
            , in {plural(g.runs, "run")}, the newest {when(g.last)}
            {g.busy > 0 && <>; {plural(g.busy, "item")} being tried again</>}
          </div>
          <button
            className="mt-1.5 text-second underline"
            aria-expanded={open}
            onClick={() => {
              setOpen(!open);
            }}
          >
            {open ? "Hide" : "Show"} {g.items === 1 ? "it" : "them"}
          </button>
        </div>
        <div className="flex shrink-0 gap-2">
          {doubt ? (
            <>
              <MendButton
                wish={{ what: "confirm", where }}
                words={g.items === 1 ? "It was done" : `${g.items.toLocaleString("en")} were done`}
              />
              <MendButton
                wish={{ what: "retry", where }}
                words={g.items === 1 ? "Send it again" : `Send ${g.items.toLocaleString("en")} again`}
              />
            </>
          ) : (
            <>
              <button
                className="btn btn-plain"
                disabled={dismiss.isPending}
                onClick={() => {
                  dismiss.mutate({ where }, { onSuccess: dismissed });
                }}
              >
                Dismiss
              </button>
              <MendButton
                main
                wish={{ what: "retry", where }}
                words={g.items === 1 ? "Retry it" : `Retry ${g.items.toLocaleString("en")}`}
              />
            </>
          )}
        </div>
      </div>
      <Trouble error={dismiss.error} />
      {open && <Items where={where} total={g.items} />}
    </section>
  );
}

function Items({ where, total }: { where: Schemas["ItemWhere"]; total: number }) {
  const items = useItems(where, true);
  if (items.isPending) return <Waiting what="Reading the items" />;
  return (
    <div className="border-t border-rule">
      <Trouble error={items.error} />
      <table className="w-full">
        <tbody>
          {items.data?.items.map((x) => (
            <tr
              key={`${x.run} ${x.address}`}
              className="border-b border-rule/70 last:border-0 hover:bg-tint/60"
            >
              <td className="w-[34%] px-4 py-1.5">
                <Link
                  className="font-medium hover:underline"
                  to="/runs/$run"
                  params={{ run: x.run }}
                  search={{ item: x.address, step: x.step }}
                >
                  {x.label || x.address}
                </Link>
              </td>
              <td className="px-3 text-second">{x.why}</td>
              <td className="px-4 text-right whitespace-nowrap text-second">
                {x.busy ? "being tried again" : when(x.since)}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {total > (items.data?.items.length ?? 0) && (
        <div className="px-4 py-2 text-xs text-second">
          The newest {items.data?.items.length} of {total.toLocaleString("en")}. Each run shows its own.
        </div>
      )}
    </div>
  );
}
