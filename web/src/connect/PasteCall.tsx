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
  const call = read.data;
  return (
    <div>
      <div className={call ? "grid gap-3 md:grid-cols-2" : ""}>
        <div className="min-w-0">
          <label className="label" htmlFor="pasted">
            A curl command, or a raw HTTP request
          </label>
          <textarea
            id="pasted"
            className={`field py-2 font-mono text-xs ${call ? "h-52" : "h-32"}`}
            spellCheck={false}
            placeholder={"curl https://api.example/v1/orders \\\n  -H 'Authorization: Bearer …'"}
            value={text}
            onChange={(e) => {
              setText(e.target.value);
            }}
          />
        </div>
        {call && <GoesOut request={call.request} />}
      </div>
      <div className="mt-2 mb-3 flex items-center gap-3">
        <button
          className={call && text === read.variables ? "btn" : "btn btn-main"}
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
      {call && (
        <Pasted
          key={read.submittedAt}
          text={read.variables}
          call={call}
          {...(onConnected ? { onConnected } : {})}
          {...(onTried ? { onTried } : {})}
        />
      )}
    </div>
  );
}

/** The request that the step sends, beside what was pasted. */
function GoesOut({ request }: { request: string }) {
  return (
    <figure className="min-w-0">
      <figcaption className="label">As it goes out</figcaption>
      <pre
        tabIndex={0} // eslint-disable-line jsx-a11y/no-noninteractive-tabindex -- what scrolls is reached by keys
        aria-label="As it goes out"
        className="h-52 overflow-auto rounded-lg border border-rule p-2.5 font-mono text-xs wrap-anywhere whitespace-pre-wrap"
      >
        {request}
      </pre>
    </figure>
  );
}
