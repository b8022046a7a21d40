import { Link } from "@tanstack/react-router";
import { type Column, type Fate, type Row } from "../api/client";
import { Mark } from "../lattice/marks";
import { fateWords, reached } from "../lattice/shape";
import { Trouble, Waiting } from "../ui/parts";
import { useRowPages } from "../api/runs";

const PAGE = 50;

/** The same run as items with their way, one below the other. */
export function AsList({ run, columns, fate }: { run: string; columns: Column[]; fate: Fate | undefined }) {
  const list = useRowPages(run, fate);
  if (list.isPending) return <Waiting what="Reading the items" />;
  const rows = list.data?.pages.flatMap((p) => p.rows) ?? [];
  return (
    <div
      tabIndex={0}
      role="group"
      aria-label="Items with their way"
      className="card min-h-0 flex-1 overflow-auto"
    >
      <Trouble error={list.error} />
      <ol>
        {rows.map((r) => (
          <One key={r.address} run={run} row={r} columns={columns} />
        ))}
      </ol>
      {rows.length === 0 && <div className="p-6 text-second">No rows yet.</div>}
      {list.hasNextPage && (
        <button
          className="btn m-3"
          disabled={list.isFetchingNextPage}
          onClick={() => {
            void list.fetchNextPage();
          }}
        >
          Show {PAGE} more
        </button>
      )}
    </div>
  );
}

function One({ run, row, columns }: { run: string; row: Row; columns: Column[] }) {
  return (
    <li className="border-b border-rule/70 px-4 py-2 last:border-0">
      <div className="font-medium">
        <span className="mr-2 text-xs text-third">{row.row.toLocaleString("en")}</span>
        {row.label || row.address}
      </div>
      <ul className="mt-0.5 flex flex-wrap gap-x-4 gap-y-0.5 text-second">
        {row.cells.flatMap((c, i) =>
          reached(c.fate)
            ? [
                <li key={columns[i]?.name ?? i}>
                  <Link
                    className="flex items-center gap-1 hover:underline"
                    to="/runs/$run"
                    params={{ run }}
                    search={{ item: row.address, step: columns[i]?.name ?? "-" }}
                  >
                    <Mark fate={c.fate} /> {columns[i]?.sentence}: {fateWords(c.fate)}
                    {c.text ? `, ${c.text}` : ""}
                  </Link>
                </li>,
              ]
            : [],
        )}
      </ul>
    </li>
  );
}
