import { Link } from "@tanstack/react-router";
import { Copy } from "lucide-react";
import { useState } from "react";
import { toast } from "sonner";
import { type List, mayEditRows, mayShapeLists, useListEdits } from "../api/lists";
import { useMe } from "../api/session";
import { Trouble } from "../ui/parts";
import { when } from "../ui/words";
import { History } from "./History";
import { Rows } from "./Rows";
import { Shape } from "./Shape";
import { TakeIn } from "./TakeIn";

/** One list: what it is for, who reads it, its rows, and its history. */
export function Detail({ list, onRemoved }: { list: List; onRemoved: () => void }) {
  const me = useMe().data;
  const [history, setHistory] = useState(false);
  const [asks, setAsks] = useState(false);
  const edits = useListEdits(list);
  const shapes = mayShapeLists(me?.role);
  const may = mayEditRows(me?.role);
  const call = `list("${list.name}")`;
  return (
    <section className="card self-start" aria-label={list.title}>
      <div className="flex flex-wrap items-start justify-between gap-3 p-4">
        <div className="min-w-0 flex-1 basis-[260px]">
          <h2 className="font-serif text-[18px] font-semibold">{list.title}</h2>
          {list.about && <p className="text-second">{list.about}</p>}
          <p className="mt-1 text-xs text-second">
            <button
              className="inline-flex items-center gap-1 font-mono hover:text-ink"
              aria-label={`Copy ${call}`}
              onClick={() => {
                void navigator.clipboard.writeText(call).then(
                  () => toast("Copied"),
                  () => toast("Copy it by hand; the browser did not allow it"),
                );
              }}
            >
              {call} <Copy size={12} aria-hidden />
            </button>{" "}
            · {list.used_by.length === 0 ? "no workflow reads it yet" : "read by "}
            {list.used_by.map((w, i) => (
              <span key={w}>
                {i > 0 && ", "}
                <Link to="/workflows/$workflow" params={{ workflow: w }} className="underline">
                  {w}
                </Link>
              </span>
            ))}{" "}
            · changed {when(list.changed)} by {list.changed_by}
          </p>
        </div>
        <div className="flex flex-wrap gap-2">
          {may && <TakeIn list={list} />}
          {me?.items && (
            <a className="btn" href={`/api/v1/lists/${encodeURIComponent(list.name)}/csv`} download>
              Save as CSV
            </a>
          )}
          {shapes && <Shape list={list} />}
          <div role="group" aria-label="What is shown" className="flex rounded-lg border border-rule">
            {(["Rows", "History"] as const).map((name) => (
              <button
                key={name}
                aria-pressed={history === (name === "History")}
                className={`h-[30px] rounded-[7px] px-3 font-medium ${history === (name === "History") ? "bg-tint text-leafink" : "text-second hover:text-ink"}`}
                onClick={() => {
                  setHistory(name === "History");
                }}
              >
                {name}
              </button>
            ))}
          </div>
        </div>
      </div>
      {me?.items === false ? (
        <p className="px-4 pb-4 text-second">
          A viewer sees what lists hold once an administrator has granted it.
        </p>
      ) : history ? (
        <History list={list} edits={may} />
      ) : (
        <Rows key={list.name} list={list} edits={may} />
      )}
      {shapes && (
        <div className="border-t border-rule px-4 py-3">
          <Trouble error={edits.remove.error} />
          {asks ? (
            <span className="flex items-center gap-2">
              Remove it with its history?
              <button
                className="btn text-rust"
                onClick={() => {
                  edits.remove.mutate(undefined, { onSuccess: onRemoved });
                }}
              >
                Remove it
              </button>
              <button
                className="btn btn-plain"
                onClick={() => {
                  setAsks(false);
                }}
              >
                Keep it
              </button>
            </span>
          ) : (
            <button
              className="text-xs text-third hover:text-rust hover:underline"
              onClick={() => {
                setAsks(true);
              }}
            >
              Remove this list
            </button>
          )}
        </div>
      )}
    </section>
  );
}
