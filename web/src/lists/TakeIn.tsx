import { Dialog } from "radix-ui";
import { useDeferredValue, useState } from "react";
import { type List, useListEdits, useTryCSV } from "../api/lists";
import { Frame } from "../ui/Frame";
import { OneOf } from "../ui/OneOf";
import { Trouble } from "../ui/parts";
import { toldWithUndo } from "../ui/toldWithUndo";
import { CSVField } from "./CSVField";

const ways = [
  {
    value: "merge",
    words: "Change and add",
    help: "Rows of the same key are changed, others added. None is removed.",
  },
  { value: "replace", words: "Put it in place of all", help: "What comes in is all that stands then." },
] as const;

/** Takes rows in from CSV; what it would change is told before. */
export function TakeIn({ list }: { list: List }) {
  const [open, setOpen] = useState(false);
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Trigger className="btn">Take in CSV</Dialog.Trigger>
      <Frame title={`Take rows into ${list.title}`} wide>
        <Rows
          list={list}
          onDone={() => {
            setOpen(false);
          }}
        />
      </Frame>
    </Dialog.Root>
  );
}

function Rows({ list, onDone }: { list: List; onDone: () => void }) {
  const [csv, setCSV] = useState("");
  const [how, setHow] = useState<"merge" | "replace">("merge");
  const tried = useTryCSV(list.name, useDeferredValue(csv), how);
  const edits = useListEdits(list);
  const given = csv.trim() !== "";
  return (
    <form
      className="space-y-3.5"
      onSubmit={(e) => {
        e.preventDefault();
        edits.csv.mutate(
          { csv, how },
          {
            onSuccess: (out) => {
              toldWithUndo(out.sentence, () => {
                edits.back.mutate(out.list.version - 1);
              });
              onDone();
            },
          },
        );
      }}
    >
      <CSVField
        label="CSV"
        hint={`The first line names columns: ${list.columns.map((c) => c.name).join(", ")}. Columns that it does not name stay as they are.`}
        text={csv}
        onText={setCSV}
      />
      <OneOf label="How it comes in" ways={ways} chosen={how} onChoose={setHow} />
      <div className="min-h-6" role="status">
        {given && tried.data && <span className="font-medium">It would be: {tried.data.sentence}</span>}
      </div>
      <Trouble error={given ? (edits.csv.error ?? tried.error) : undefined} />
      <div className="flex justify-end gap-2">
        <Dialog.Close className="btn btn-plain">Cancel</Dialog.Close>
        <button className="btn btn-main" disabled={!given || tried.data === undefined || edits.csv.isPending}>
          Take them in
        </button>
      </div>
    </form>
  );
}
