import { useState } from "react";
import { toast } from "sonner";
import { asFields } from "../api/client";
import { type List, type ListRow, useListChange, useListChanges, useListEdits } from "../api/lists";
import { Trouble, Waiting } from "../ui/parts";
import { when } from "../ui/words";
import { cellText } from "./words";

/** Who changed a list and when; each change can be looked at, and the list put back. */
export function History({ list, edits }: { list: List; edits: boolean }) {
  const changes = useListChanges(list.name, list.version);
  const [open, setOpen] = useState<number>();
  return (
    <div className="px-4 pb-4">
      <Trouble error={changes.error} />
      {changes.isPending && <Waiting what="Reading the history" />}
      <ol aria-label={`History of ${list.title}`}>
        {changes.data?.changes.map((c) => (
          <li key={c.version} className="border-b border-rule last:border-0">
            <button
              className="flex w-full items-baseline gap-3 py-2 text-left hover:bg-tint/60"
              aria-expanded={open === c.version}
              onClick={() => {
                setOpen(open === c.version ? undefined : c.version);
              }}
            >
              <span className="w-10 text-right text-third">{c.version}</span>
              <span className="min-w-0 flex-1">{c.what}</span>
              <span className="text-xs whitespace-nowrap text-second">
                {c.changed_by}, {when(c.at)}
              </span>
            </button>
            {open === c.version && <Change list={list} number={c.version} edits={edits} />}
          </li>
        ))}
      </ol>
    </div>
  );
}

/** Rows of a change that are drawn; of more it is told how many they are. */
const most = 100;

function Change({ list, number, edits }: { list: List; number: number; edits: boolean }) {
  const change = useListChange(list.name, number);
  const { back } = useListEdits(list);
  if (change.isPending) return <Waiting what="Reading what it changed" />;
  if (!change.data) return <Trouble error={change.error} />;
  const { added, removed, changed } = change.data;
  const rows: [string, string, ListRow][] = [
    ...added.map((r): [string, string, ListRow] => ["added", "text-leafink", r]),
    ...changed.flatMap(({ before, after }): [string, string, ListRow][] => [
      ["was", "text-third", before],
      ["is", "", after],
    ]),
    ...removed.map((r): [string, string, ListRow] => ["removed", "text-rust line-through", r]),
  ];
  // Cells of columns that were called otherwise then, or are gone, are shown too.
  const names = [
    ...new Set([
      ...change.data.columns.map((c) => c.name),
      ...rows.flatMap(([, , r]) => Object.keys(asFields(r.fields))),
    ]),
  ];
  return (
    <div className="mb-3 ml-12 space-y-2">
      {rows.length === 0 && <p className="text-second">It changed no row.</p>}
      {rows.length > 0 && (
        <div className="overflow-x-auto">
          <table aria-label={`What change ${String(number)} did`}>
            <thead>
              <tr className="text-left text-xs text-second">
                <th aria-label="How" />
                {names.map((n) => (
                  <th key={n} className="pr-4 font-medium">
                    {n}
                  </th>
                ))}
              </tr>
            </thead>
            <tbody>
              {rows.slice(0, most).map(([how, tone, r], i) => (
                <tr key={i}>
                  <td className="pr-4 text-xs text-second">{how}</td>
                  {names.map((n) => (
                    <td key={n} className={`pr-4 ${tone}`}>
                      {cellText(asFields(r.fields)[n])}
                    </td>
                  ))}
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
      {rows.length > most && (
        <p className="text-second">And {(rows.length - most).toLocaleString("en")} more.</p>
      )}
      <Trouble error={back.error} />
      {edits && number < list.version && (
        <button
          className="btn"
          disabled={back.isPending}
          onClick={() => {
            back.mutate(number, { onSuccess: (out) => toast(out.sentence) });
          }}
        >
          Put it back as it was after this
        </button>
      )}
    </div>
  );
}
