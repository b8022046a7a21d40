import { ArrowDown, ArrowUp, Plus, X } from "lucide-react";
import { Dialog } from "radix-ui";
import { useState } from "react";
import { type List, type ListColumn, useListEdits } from "../api/lists";
import { Frame } from "../ui/Frame";
import { Line } from "../ui/Line";
import { Trouble } from "../ui/parts";
import { toldWithUndo } from "../ui/toldWithUndo";

/** Changes what a list is called, and its columns. */
export function Shape({ list }: { list: List }) {
  const [open, setOpen] = useState(false);
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Trigger className="btn">Columns</Dialog.Trigger>
      <Frame title={list.title} wide>
        <Form
          list={list}
          onDone={() => {
            setOpen(false);
          }}
        />
      </Frame>
    </Dialog.Root>
  );
}

interface Draft extends ListColumn {
  id: number; // lasting, however it is called and wherever it stands
}

function Form({ list, onDone }: { list: List; onDone: () => void }) {
  const [title, setTitle] = useState(list.title);
  const [about, setAbout] = useState(list.about);
  const [columns, setColumns] = useState<Draft[]>(() =>
    list.columns.map((c, id) => ({ ...c, was: c.name, id })),
  );
  const edits = useListEdits(list);
  const gone = list.columns.filter((c) => !columns.some((x) => x.was === c.name));
  const set = (id: number, next: Partial<ListColumn>) => {
    setColumns(columns.map((c) => (c.id === id ? { ...c, ...next } : c)));
  };
  const move = (at: number, by: number) => {
    const next = [...columns];
    const [c] = next.splice(at, 1);
    if (c) next.splice(at + by, 0, c);
    setColumns(next);
  };
  return (
    <form
      className="space-y-3.5"
      onSubmit={(e) => {
        e.preventDefault();
        const body = {
          title: title.trim(),
          about,
          columns: columns.map(({ name, title, type, was }) => ({
            name,
            type,
            ...(title ? { title } : {}),
            ...(was ? { was } : {}),
          })),
        };
        edits.shape.mutate(body, {
          onSuccess: (out) => {
            toldWithUndo("Changed", () => {
              edits.back.mutate(out.list.version - 1);
            });
            onDone();
          },
        });
      }}
    >
      <div className="grid grid-cols-2 gap-4">
        <Line id="shape-title" label="What it is called" text={title} onText={setTitle} />
        <Line id="shape-about" label="What it is for" text={about} onText={setAbout} />
      </div>
      <table className="w-full" aria-label="Columns">
        <thead>
          <tr className="text-left">
            <th className="py-1 pr-2 font-medium">Name in workflows</th>
            <th className="py-1 pr-2 font-medium">Title</th>
            <th className="py-1 pr-2 font-medium">Holds</th>
            <th aria-label="Order" />
          </tr>
        </thead>
        <tbody>
          {columns.map((c, i) => (
            <ColumnLine
              key={c.id}
              column={c}
              at={i}
              last={i === columns.length - 1}
              onSet={(next) => {
                set(c.id, next);
              }}
              onMove={(by) => {
                move(i, by);
              }}
              onTakeOut={() => {
                setColumns(columns.filter((x) => x.id !== c.id));
              }}
            />
          ))}
        </tbody>
      </table>
      <button
        type="button"
        className="btn btn-plain px-0"
        onClick={() => {
          const id = Math.max(0, ...columns.map((c) => c.id + 1));
          setColumns([...columns, { id, name: "", type: "text" }]);
        }}
      >
        <Plus size={14} /> Add a column
      </button>
      <p className="hint">Rows are known by the first column: it is filled in, and stands there once.</p>
      {gone.length > 0 && (
        <p className="text-amber">
          Taken out with its cells: {gone.map((c) => c.name).join(", ")}. Workflows that read it get nothing.
        </p>
      )}
      <Trouble error={edits.shape.error} />
      <div className="flex justify-end gap-2">
        <Dialog.Close className="btn btn-plain">Cancel</Dialog.Close>
        <button className="btn btn-main" disabled={edits.shape.isPending}>
          Change it
        </button>
      </div>
    </form>
  );
}

/** One column: its name in workflows, its title, and what it holds. */
function ColumnLine({
  column: c,
  at,
  last,
  onSet,
  onMove,
  onTakeOut,
}: {
  column: Draft;
  at: number;
  last: boolean;
  onSet: (next: Partial<ListColumn>) => void;
  onMove: (by: number) => void;
  onTakeOut: () => void;
}) {
  return (
    <tr>
      <td className="py-0.5 pr-2">
        <input
          aria-label={`Name of column ${String(at + 1)}`}
          className="field font-mono text-xs"
          value={c.name}
          onChange={(e) => {
            onSet({ name: e.target.value });
          }}
        />
      </td>
      <td className="py-0.5 pr-2">
        <input
          aria-label={`Title of column ${String(at + 1)}`}
          className="field"
          value={c.title ?? ""}
          onChange={(e) => {
            onSet({ title: e.target.value });
          }}
        />
      </td>
      <td className="py-0.5 pr-2">
        <select
          aria-label={`What column ${String(at + 1)} holds`}
          className="field"
          value={c.type}
          onChange={(e) => {
            onSet({ type: e.target.value as ListColumn["type"] });
          }}
        >
          <option value="text">text</option>
          <option value="number">number</option>
          <option value="yes_no">yes or no</option>
        </select>
      </td>
      <td className="py-0.5 whitespace-nowrap">
        {(
          [
            [ArrowUp, "up", -1, at === 0],
            [ArrowDown, "down", 1, last],
          ] as const
        ).map(([Icon, way, by, off]) => (
          <button
            key={way}
            type="button"
            className="p-1 text-third hover:text-ink disabled:opacity-30"
            aria-label={`Move ${c.name} ${way}`}
            disabled={off}
            onClick={() => {
              onMove(by);
            }}
          >
            <Icon size={14} />
          </button>
        ))}
        <button
          type="button"
          className="p-1 text-third hover:text-rust"
          aria-label={`Take ${c.name} out`}
          onClick={onTakeOut}
        >
          <X size={14} />
        </button>
      </td>
    </tr>
  );
}
