import { useState } from "react";
import { toast } from "sonner";
import { asFields, type Run, type Schemas } from "../api/client";
import { writeJson } from "../api/exact";
import { useOpened, useKeepAsSample } from "../api/runs";
import { Guarded } from "../connect/Guarded";
import { FieldList } from "../lattice/FieldList";
import { Mark } from "../lattice/marks";
import { fateWords } from "../lattice/shape";
import { MendActions } from "../mend/MendActions";
import { Trouble, Waiting } from "../ui/parts";
import { plural, triedWords, when } from "../ui/words";
import { Changes } from "./Changes";
import { OtherRuns } from "./OtherRuns";

interface Props {
  run: Run;
  address: string;
  step: string; // "-" for the trigger
}

/** Everything about one item at one step: as it came, what became of it, its way here, and what can be done about it. */
export function OpenedCell({ run, address, step }: Props) {
  const opened = useOpened(run.run.id, address, step);
  const o = opened.data;
  if (opened.isPending)
    return (
      <div className="card mb-2 h-[clamp(150px,27vh,260px)] shrink-0">
        <Waiting what="Opening" />
      </div>
    );
  if (!o) return <Trouble error={opened.error} />;
  const before = asFields(o.before);
  return (
    <section
      aria-label="The opened cell"
      className="card mb-2 grid h-[clamp(150px,27vh,260px)] shrink-0 grid-cols-[1.1fr_1.2fr_0.9fr] divide-x divide-rule overflow-hidden"
    >
      <div tabIndex={0} aria-label="As it came" role="group" className="overflow-auto p-3.5">
        <h2 className="mb-1.5 text-xs font-semibold text-second">
          {step === "-" ? "As it arrived" : `${o.label || "The item"} when it came here`}
        </h2>
        {o.edited_by !== undefined && (
          <div className="mb-1.5 text-amber">
            Its fields were changed by {o.edited_by}
            {o.edited_at && `, ${when(o.edited_at)}`}.
          </div>
        )}
        {o.made_of !== undefined && (
          <div className="mb-1.5 text-second">Made of {plural(o.made_of, "item")}.</div>
        )}
        {(o.made_of === undefined || Object.keys(before).length > 0) && <FieldList fields={before} />}
      </div>
      <What run={run} o={o} address={address} step={step} />
      <div tabIndex={0} aria-label="Its way here" role="group" className="overflow-auto p-3.5">
        <h2 className="mb-1.5 text-xs font-semibold text-second">Its way here</h2>
        <ol className="space-y-1.5">
          {o.way.map((w, i) => (
            <li
              key={`${w.step} ${String(i)}`}
              className={`flex gap-2 ${w.step === step ? "font-semibold" : ""}`}
            >
              <span className="text-third">{i + 1}</span>
              <span className="mt-0.5 shrink-0">
                <Mark fate={w.fate} />
              </span>
              <span className="min-w-0">
                {w.sentence}
                {w.text && <span className="text-second">: {w.text}</span>}
              </span>
            </li>
          ))}
        </ol>
        <OtherRuns run={run.run.id} address={address} />
      </div>
    </section>
  );
}

type Opened = Schemas["OpenedCell"];

/** What became of the item, what was sent and answered. */
function What({ run, o, address, step }: Props & { o: Opened }) {
  const [shows, setShows] = useState<"" | "request" | "answer">("");
  const keep = useKeepAsSample(run.run.id, run.run.workflow);
  const link = () => {
    void navigator.clipboard
      .writeText(
        `${location.origin}/runs/${run.run.id}?item=${encodeURIComponent(address)}&step=${encodeURIComponent(step)}`,
      )
      .then(() => toast("The link to this cell is copied"));
  };
  const bad = o.cell.fate === "set_aside" || o.cell.fate === "may_have_been_sent" ? o.cell.fate : undefined;
  return (
    <div tabIndex={0} aria-label="What became of it" role="group" className="overflow-auto p-3.5">
      <h2 className="mb-1.5 text-xs font-semibold text-second">{o.sentence}</h2>
      {o.sent && (
        <div className="mb-1 font-mono text-xs break-all">
          {o.sent.status ?? "not sent"} {o.sent.method} {new URL(o.sent.url).pathname}
        </div>
      )}
      {o.failure ? (
        <>
          <div
            className={`mb-1 font-semibold ${o.cell.fate === "went_on" || o.cell.fate === "fell_back" ? "text-amber" : "text-rust"}`}
          >
            {o.failure.message}
          </div>
          <div className="mb-2 text-second">{triedWords(o.failure)}</div>
          {o.sent?.guarded && (
            <Guarded
              address={o.sent.guarded}
              onAllowed={() => toast("It may be called now; retry the item")}
            />
          )}
        </>
      ) : (
        <div className="mb-2 flex items-baseline gap-1.5">
          <Mark fate={o.cell.fate} />{" "}
          <span className="font-medium whitespace-nowrap">{fateWords(o.cell.fate)}</span>{" "}
          <span className={bad || o.cell.fate === "stopped" ? "text-rust" : "text-second"}>
            {o.cell.text}
          </span>
        </div>
      )}
      {!o.failure && o.after !== undefined && step !== "-" && (
        <div className="mb-2">
          <Changes before={asFields(o.before)} after={asFields(o.after)} />
        </div>
      )}
      {shows === "request" && o.sent && (
        <pre className="mb-2 overflow-auto rounded-lg bg-paper p-2 font-mono text-xs whitespace-pre-wrap">
          {o.sent.method} {o.sent.url}
          {"\n\n"}
          {o.sent.body}
        </pre>
      )}
      {shows === "answer" && (
        <pre className="mb-2 overflow-auto rounded-lg bg-paper p-2 font-mono text-xs whitespace-pre-wrap">
          {writeJson(o.result, 2).slice(0, 4000)}
        </pre>
      )}
      <div className="flex flex-wrap gap-1.5">
        {bad && <MendActions run={run.run.id} address={address} kind={bad} fields={asFields(o.before)} />}
        {o.sent && (
          <button
            className="btn"
            aria-pressed={shows === "request"}
            onClick={() => {
              setShows(shows === "request" ? "" : "request");
            }}
          >
            Request
          </button>
        )}
        {o.result !== undefined && (
          <button
            className="btn"
            aria-pressed={shows === "answer"}
            onClick={() => {
              setShows(shows === "answer" ? "" : "answer");
            }}
          >
            Answer
          </button>
        )}
        {o.link && (
          <a className="btn" href={o.link} target="_blank" rel="noreferrer noopener">
            Open the record
          </a>
        )}
        <button className="btn" onClick={link}>
          Copy link
        </button>
        <button
          className="btn"
          disabled={keep.isPending}
          onClick={() => {
            keep.mutate(address, { onSuccess: () => toast("Kept as a sample of the workflow") });
          }}
        >
          Make it a sample
        </button>
      </div>
      <Trouble error={keep.error} />
    </div>
  );
}
