import { Dialog } from "radix-ui";
import { useState } from "react";
import { type List, useAddList } from "../api/lists";
import { Frame } from "../ui/Frame";
import { Line } from "../ui/Line";
import { Trouble } from "../ui/parts";
import { plainName } from "../ui/names";
import { CSVField } from "./CSVField";

/** Makes a list: what it is called, and rows or only columns. */
export function AddList({ onAdded }: { onAdded: (l: List) => void }) {
  const [open, setOpen] = useState(false);
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Trigger className="btn btn-main">Add a list</Dialog.Trigger>
      <Frame title="Add a list" wide>
        <NewList
          onAdded={(l) => {
            setOpen(false);
            onAdded(l);
          }}
        />
      </Frame>
    </Dialog.Root>
  );
}

function NewList({ onAdded }: { onAdded: (l: List) => void }) {
  const [title, setTitle] = useState("");
  const [own, setOwn] = useState<string>();
  const [about, setAbout] = useState("");
  const [csv, setCSV] = useState("");
  const add = useAddList();
  const name = own ?? plainName(title, "-");
  return (
    <form
      className="space-y-3.5"
      onSubmit={(e) => {
        e.preventDefault();
        add.mutate({ name, title: title.trim(), about: about.trim(), csv }, { onSuccess: onAdded });
      }}
    >
      <div className="grid grid-cols-2 gap-4">
        <Line
          id="list-title"
          label="What it is called"
          placeholder="On duty"
          text={title}
          onText={setTitle}
        />
        <Line
          id="list-name"
          label="Its name in workflows"
          placeholder="on-duty"
          mono
          text={name}
          onText={(t) => {
            setOwn(t || undefined);
          }}
        />
      </div>
      <Line id="list-about" label="What it is for" wished text={about} onText={setAbout} />
      <CSVField
        label="Its columns and rows, as CSV"
        hint="The first line names the columns; that line alone makes an empty list. Rows are known by what stands in the first column, which is there once."
        text={csv}
        onText={setCSV}
      />
      <Trouble error={add.error} />
      <div className="flex justify-end gap-2">
        <Dialog.Close className="btn btn-plain">Cancel</Dialog.Close>
        <button className="btn btn-main" disabled={name === "" || csv.trim() === "" || add.isPending}>
          Make it
        </button>
      </div>
    </form>
  );
}
