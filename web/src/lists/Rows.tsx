import { X } from "lucide-react";
import { useDeferredValue, useState } from "react";
import { asFields } from "../api/client";
import {
  type List,
  type ListColumn,
  type ListRow,
  useListEdits,
  useListRows,
  type RowEdit,
} from "../api/lists";
import { Trouble, Waiting } from "../ui/parts";
import { toldWithUndo } from "../ui/toldWithUndo";
import { plural } from "../ui/words";
import { CellField } from "./CellField";
import { NewRow } from "./NewRow";
import { cellText, titleOf } from "./words";

/** The rows of a list, to be read and typed into. */
export function Rows({ list, edits: may }: { list: List; edits: boolean }) {
  const [find, setFind] = useState("");
  const wanted = useDeferredValue(find.trim());
  const rows = useListRows(list.name, list.version, wanted);
  const edits = useListEdits(list);
  const all = rows.data?.pages.flatMap((p) => p.rows) ?? [];
  const total = rows.data?.pages.at(-1)?.total ?? 0;
  const change = async (list: RowEdit[]) => {
    const out = await edits.rows.mutateAsync(list);
    const before = out.list.version - 1;
    toldWithUndo(out.sentence, () => {
      edits.back.mutate(before);
    });
  };
  const set = (e: RowEdit) => {
    void change([e]).catch(() => undefined); // it is told above the rows
  };
  return (
    <div className="p-4 pt-0">
      <div className="mb-2 flex items-center gap-3">
        <input
          aria-label="Find rows"
          className="field max-w-[260px]"
          placeholder="Find in any column"
          value={find}
          onChange={(e) => {
            setFind(e.target.value);
          }}
        />
        <span className="text-second" role="status">
          {wanted ? `${plural(total, "row")} of ${list.rows.toLocaleString("en")}` : plural(list.rows, "row")}
        </span>
      </div>
      <Trouble error={edits.rows.error ?? edits.back.error ?? rows.error} />
      {rows.isPending ? (
        <Waiting what="Reading the rows" />
      ) : (
        <div className="overflow-x-auto rounded-lg border border-rule">
          <table className="w-full" aria-label={`Rows of ${list.title}`}>
            <thead>
              <tr className="border-b border-rule text-left">
                {list.columns.map((c) => (
                  <th
                    key={c.name}
                    scope="col"
                    title={c.name}
                    className={`px-2 py-1.5 font-semibold whitespace-nowrap ${c.type === "number" ? "text-right" : ""}`}
                  >
                    {titleOf(c)}
                  </th>
                ))}
                {may && <th className="w-8" aria-label="Remove" />}
              </tr>
            </thead>
            <tbody>
              {may && (
                <NewRow key={list.name} columns={list.columns} onAdd={(fields) => change([{ fields }])} />
              )}
              {all.map((r) => (
                <Line key={r.key} columns={list.columns} row={r} onEdit={may ? set : undefined} />
              ))}
            </tbody>
          </table>
          {all.length === 0 && (
            <p className="px-2 py-4 text-second">
              {wanted ? `No row holds “${wanted}”.` : "There are no rows yet."}
            </p>
          )}
        </div>
      )}
      {rows.hasNextPage && (
        <button
          className="btn mt-3"
          disabled={rows.isFetchingNextPage}
          onClick={() => {
            void rows.fetchNextPage();
          }}
        >
          Show more, {(total - all.length).toLocaleString("en")} left
        </button>
      )}
    </div>
  );
}

/** A row; without onEdit it is only read. */
function Line({
  columns,
  row,
  onEdit,
}: {
  columns: ListColumn[];
  row: ListRow;
  onEdit: ((e: RowEdit) => void) | undefined;
}) {
  const fields = asFields(row.fields);
  return (
    <tr className="group border-b border-rule last:border-0">
      {columns.map((c) => (
        <td key={c.name} className="p-0">
          {onEdit ? (
            <CellField
              column={c}
              label={`${titleOf(c)} of ${row.key}`}
              text={cellText(fields[c.name])}
              onSet={(text) => {
                onEdit({ key: row.key, fields: { [c.name]: text } });
              }}
            />
          ) : (
            <div className={`px-2 py-1.5 ${c.type === "number" ? "text-right" : ""}`}>
              {cellText(fields[c.name])}
            </div>
          )}
        </td>
      ))}
      {onEdit && (
        <td className="w-8 text-center">
          <button
            className="rounded p-1 text-third opacity-0 group-hover:opacity-100 hover:text-rust focus:opacity-100"
            aria-label={`Remove ${row.key}`}
            onClick={() => {
              onEdit({ key: row.key, remove: true });
            }}
          >
            <X size={14} />
          </button>
        </td>
      )}
    </tr>
  );
}
