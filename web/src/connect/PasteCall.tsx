import { useState } from "react";
import type { Fields, Schemas } from "../api/client";
import { useReadPasted } from "../api/connectors";
import { Trouble } from "../ui/parts";
import { Pasted } from "./Pasted";

/** A call that was made: the settings of an http step and its connection. */
export interface Called {
  settings: Fields;
  connection: string | undefined;
}

interface Props {
  onConnected?: (c: Schemas["Connection"]) => void;
  onTried?: (t: Schemas["Tried"], call: Called) => void;
}

/** Makes a step of a pasted call; what is secret in it becomes a connection. */
export function PasteCall({ onConnected, onTried }: Props) {
  const [text, setText] = useState("");
  const read = useReadPasted();
  return (
    <div>
      <label className="label" htmlFor="pasted">
        A curl command, or a raw HTTP request
      </label>
      <textarea
        id="pasted"
        className="field h-28 py-2 font-mono text-xs"
        spellCheck={false}
        placeholder={"curl https://api.example/v1/orders \\\n  -H 'Authorization: Bearer …'"}
        value={text}
        onChange={(e) => {
          setText(e.target.value);
        }}
      />
      <div className="mt-2 mb-3 flex items-center gap-3">
        <button
          className="btn btn-main"
          disabled={!text.trim() || read.isPending}
          onClick={() => {
            read.mutate(text);
          }}
        >
          Read it
        </button>
        <span className="hint">Secrets in it are taken out and kept in a connection only.</span>
      </div>
      <Trouble error={read.error} />
      {read.data && (
        <Pasted
          key={read.submittedAt}
          text={read.variables}
          call={read.data}
          {...(onConnected ? { onConnected } : {})}
          {...(onTried ? { onTried } : {})}
        />
      )}
    </div>
  );
}
