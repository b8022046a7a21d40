import { Link, useNavigate } from "@tanstack/react-router";
import { useState } from "react";
import { useConnections } from "../api/connections";
import type { Kind } from "../api/client";
import { useByHand, useKinds } from "../api/connectors";
import { useMakeWorkflow } from "../api/workflows";
import { Stages } from "../ui/Stages";
import { Trouble } from "../ui/parts";
import { documentOf, slug } from "./document";

/** A workspace in which nothing happens yet: what should, and the doors to it. */
export function FirstVisit() {
  const [title, setTitle] = useState("");
  const make = useMakeWorkflow();
  const navigate = useNavigate();
  const connected = useConnections().data?.connections.some((c) => c.state === "ok") ?? false;
  const kinds = useKinds().data?.triggers ?? [];
  const called = (kind: Kind | undefined, fallback: string) => {
    if (!kind) return;
    make.mutate(documentOf(slug(title) ? title : fallback, kind.type, []), {
      onSuccess: (w) =>
        navigate({
          to: "/workflows/$workflow",
          params: { workflow: w.name },
          ...(kind.called ? { search: { line: "-" } } : {}),
        }),
    });
  };
  const byHand = useByHand();
  const door = "card block w-full p-5 text-left hover:border-leaf hover:bg-tint disabled:opacity-60";
  return (
    <div>
      <form
        className="mb-4 max-w-[720px]"
        onSubmit={(e) => {
          e.preventDefault();
          if (slug(title)) called(byHand, title);
        }}
      >
        <label htmlFor="happens" className="font-serif text-[17px] font-semibold">
          What should happen?
        </label>
        <input
          id="happens"
          className="field h-10 border-x-0 border-t-0 bg-transparent px-0 font-serif text-[16px] italic"
          style={{ borderRadius: 0 }}
          maxLength={80}
          placeholder="In a few words, as: note every call at the counter"
          value={title}
          onChange={(e) => {
            setTitle(e.target.value);
          }}
        />
      </form>
      <div className="grid gap-3 md:grid-cols-3">
        <Link to="/start" className={door}>
          <Door title="I have a key">
            Find the application, store the key, and see real rows of it in a minute.
          </Door>
        </Link>
        <button
          className={door}
          disabled={make.isPending}
          onClick={() => {
            called(
              kinds.find((k) => k.called),
              "What calls us",
            );
          }}
        >
          <Door title="Something calls me">
            Get an address that something can call, and catch a sample of what arrives.
          </Door>
        </button>
        <button
          className={door}
          disabled={make.isPending}
          onClick={() => {
            called(byHand, "What we do by hand");
          }}
        >
          <Door title="I start it myself">
            Begin with the lines: say what should happen, one after the other.
          </Door>
        </button>
      </div>
      <Trouble error={make.error} />
      <div className="mt-5">
        <Stages
          list={[
            { words: "Connected", done: connected },
            { words: "A sample", done: false },
            { words: "A first line", done: false },
            { words: "Rehearsed", done: false },
            { words: "Live", done: false },
          ]}
        />
      </div>
    </div>
  );
}

function Door({ title, children }: { title: string; children: React.ReactNode }) {
  return (
    <>
      <span className="font-serif text-[16px] font-semibold">{title}</span>
      <br />
      <span className="text-second">{children}</span>
    </>
  );
}
