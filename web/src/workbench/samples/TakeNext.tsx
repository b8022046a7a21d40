import { useState } from "react";

/** Takes the next call or form as a sample: with what is personal in it masked, unless somebody wants it as it came. */
export function TakeNext({
  what,
  busy,
  onTake,
}: {
  what: "call" | "form";
  busy: boolean;
  onTake: (personal: "masked" | "kept") => void;
}) {
  const [plain, setPlain] = useState(false);
  return (
    <>
      <button
        type="button"
        className="btn"
        disabled={busy}
        onClick={() => {
          onTake(plain ? "kept" : "masked");
        }}
      >
        Take the next {what}
      </button>
      <label className="order-last flex w-full items-baseline gap-2 text-second">
        <input
          type="checkbox"
          checked={plain}
          onChange={(e) => {
            setPlain(e.target.checked);
          }}
        />
        Keep names, addresses and telephone numbers in it as they came
      </label>
    </>
  );
}
