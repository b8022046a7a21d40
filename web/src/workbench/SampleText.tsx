import { useState } from "react";
import type { Fields } from "../api/client";
import { readSamples } from "./sampleWords";

interface Props {
  label: string;
  first: string;
  one?: boolean; // it stays one sample
  busy: boolean;
  onKeep: (items: Fields[]) => void;
  onLeave: () => void;
}

/** Samples as text: one object, a list of them, or one in each line. */
export function SampleText({ label, first, one = false, busy, onKeep, onLeave }: Props) {
  const [text, setText] = useState(first);
  const [tried, setTried] = useState(false);
  const read = readSamples(text);
  const wrong =
    "wrong" in read
      ? read.wrong
      : one && read.items.length > 1
        ? "This is one sample; write one object."
        : "";
  return (
    <div className="mt-2">
      <textarea
        aria-label={label}
        aria-invalid={tried && wrong !== ""}
        className="h-28 w-full rounded-lg border border-edge bg-sheet p-2 font-mono text-xs"
        spellCheck={false}
        placeholder={'{"number": "+441632960141", "duration_s": 62}'}
        value={text}
        onChange={(e) => {
          setText(e.target.value);
          setTried(false);
        }}
      />
      {tried && wrong && (
        <div role="alert" className="text-rust">
          {wrong}
        </div>
      )}
      <div className="mt-1 flex gap-2">
        <button
          type="button"
          className="btn"
          disabled={!text.trim() || busy}
          onClick={() => {
            setTried(true);
            if (!wrong && "items" in read) onKeep(read.items);
          }}
        >
          Keep it
        </button>
        <button type="button" className="btn" onClick={onLeave}>
          Not now
        </button>
      </div>
    </div>
  );
}
