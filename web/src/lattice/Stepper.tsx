import type { Round } from "./Heads";

/** Goes from one round of a loop to another, and to the next in which something is to be mended. */
export function Stepper({
  rounds,
  at,
  onGo,
}: {
  rounds: Round[];
  at: string;
  onGo: (round: string) => void;
}) {
  const i = rounds.findIndex((r) => r.round === at);
  const go = (to: number) => {
    const r = rounds[to];
    if (r) onGo(r.round);
  };
  const next = rounds.findIndex((r, j) => j > i && r.trouble > 0);
  const troubled = next >= 0 ? next : rounds.findIndex((r) => r.trouble > 0);
  const step = "rounded px-1 hover:bg-rule/60 disabled:opacity-40";
  return (
    <span className="flex items-center gap-1.5">
      <button
        className={step}
        aria-label="The round before"
        disabled={i <= 0}
        onClick={() => {
          go(i - 1);
        }}
      >
        ‹
      </button>
      <span>
        round <b>{i < 0 ? at : (i + 1).toLocaleString("en")}</b> of {rounds.length.toLocaleString("en")}
        {i >= 0 && (
          <span className="text-second">
            , {rounds[i]?.rows.toLocaleString("en")} {rounds[i]?.rows === 1 ? "item" : "items"}
          </span>
        )}
      </span>
      <button
        className={step}
        aria-label="The next round"
        disabled={i < 0 || i >= rounds.length - 1}
        onClick={() => {
          go(i + 1);
        }}
      >
        ›
      </button>
      {troubled >= 0 && troubled !== i && (
        <button
          className="ml-1 font-medium text-rust underline"
          onClick={() => {
            go(troubled);
          }}
        >
          next round with trouble
        </button>
      )}
    </span>
  );
}
