import { useState } from "react";
import type { Connector } from "../api/client";
import { useConnectors } from "../api/connectors";
import { useFirstFocus } from "../ui/useFirstFocus";

/** Finds the application, else takes a pasted call. */
export function ChooseConnector({
  onChoose,
  onPaste,
}: {
  onChoose: (c: Connector) => void;
  onPaste: () => void;
}) {
  const focus = useFirstFocus<HTMLInputElement>();
  const connectors = useConnectors();
  const [find, setFind] = useState("");
  const fitting =
    connectors.data?.connectors.filter((c) =>
      `${c.title} ${c.about} ${c.name}`.toLowerCase().includes(find.toLowerCase()),
    ) ?? [];
  return (
    <>
      <input
        className="field mb-3"
        aria-label="Find the application"
        placeholder="Find the application"
        ref={focus}
        value={find}
        onChange={(e) => {
          setFind(e.target.value);
        }}
      />
      <div
        // All its height from the beginning: what stands beneath is pressed before the list has come.
        className={`grid content-start gap-2 overflow-auto sm:grid-cols-2 ${find ? "max-h-[46vh]" : "h-[46vh]"}`}
      >
        {fitting.map((c) => (
          <button
            key={c.name}
            type="button"
            className="rounded-lg border border-rule p-2.5 text-left hover:border-leaf hover:bg-tint"
            onClick={() => {
              onChoose(c);
            }}
          >
            <span className="font-semibold">{c.title}</span>
            <br />
            <span className="text-second">{c.about}</span>
          </button>
        ))}
        {connectors.data && fitting.length === 0 && (
          <div className="p-2 text-second">No connector is called so.</div>
        )}
      </div>
      <div className="mt-3 border-t border-rule pt-3 text-second">
        Not there?{" "}
        <button type="button" className="text-leafink underline" onClick={onPaste}>
          Paste a call from its documentation
        </button>
        , or import its OpenAPI document under Connectors.
      </div>
    </>
  );
}
