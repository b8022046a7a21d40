import { useState } from "react";
import { type Connector } from "../api/client";
import { Trouble } from "../ui/parts";
import { Imported } from "./Imported";
import { useReadOpenAPI } from "../api/connectors";

/** Makes a connector of an OpenAPI document, which a person looks at first. */
export function ImportOpenAPI({ onAdded }: { onAdded: (c: Connector) => void }) {
  const [text, setText] = useState("");
  const [address, setAddress] = useState("");
  const read = useReadOpenAPI();
  const load = async (f: File) => {
    setText(await f.text());
  };
  return (
    <div>
      <div className="mb-3">
        <label className="label" htmlFor="openapi-file">
          An OpenAPI 3 document
        </label>
        <input
          id="openapi-file"
          type="file"
          accept=".json,.yaml,.yml"
          className="mb-2 block text-second"
          onChange={(e) => {
            const f = e.target.files?.[0];
            if (f) void load(f);
          }}
        />
        <textarea
          aria-label="or its text"
          className="field h-28 py-2 font-mono text-xs"
          spellCheck={false}
          placeholder="or paste its text: JSON or YAML"
          value={text.slice(0, 200_000)}
          onChange={(e) => {
            setText(e.target.value);
          }}
        />
      </div>
      <div className="mb-3">
        <label className="label" htmlFor="openapi-address">
          Where it was found <span className="font-normal text-third">if its servers are only paths</span>
        </label>
        <input
          id="openapi-address"
          className="field"
          placeholder="https://api.example/openapi.json"
          value={address}
          onChange={(e) => {
            setAddress(e.target.value);
          }}
        />
      </div>
      <button
        className="btn btn-main mb-3"
        disabled={!text.trim() || read.isPending}
        onClick={() => {
          read.mutate({ document: text, address });
        }}
      >
        {read.isPending ? "Reading…" : "Read it"}
      </button>
      <Trouble error={read.error} />
      {read.data && <Imported key={read.submittedAt} read={read.data} onAdded={onAdded} />}
    </div>
  );
}
