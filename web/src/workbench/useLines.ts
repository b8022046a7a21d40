import { useQueryClient } from "@tanstack/react-query";
import { useCallback, useRef, useState } from "react";
import { toast } from "sonner";
import type { Finding, Line, Workflow } from "../api/client";
import { historyOf, planOf, type useDraft, type Edit } from "../api/draft";
import { plural } from "../ui/words";
import { isCase, keyOf, pasted, type Place } from "./lines";
import { toldWithUndo } from "../ui/toldWithUndo";

/** What edits would break, before they are made. */
export interface Breaking {
  edits: Edit[];
  said: string;
  problems: Finding[];
}

/** What was copied last, where the browser keeps its own clipboard from us. */
let clipboard = "";

/** The clipboard cannot be read where the page is not trusted with it; what was copied here is known. */
export async function copied(): Promise<string> {
  try {
    return (await navigator.clipboard.readText()) || clipboard;
  } catch {
    return clipboard;
  }
}

const shortly = (text: string) => (text.length > 46 ? `${text.slice(0, 45)}…` : text);

/** Does things one after the other, each on the lines that the one before left. */
function useInTurn(name: string) {
  const client = useQueryClient();
  const chain = useRef<Promise<unknown>>(Promise.resolve());
  return useCallback(
    (act: (lines: Line[]) => Promise<void>) => {
      chain.current = chain.current
        .then(() => act(client.getQueryData<Workflow>(["workflow", name])?.lines ?? []))
        .catch(() => undefined);
    },
    [client, name],
  );
}

/** Undoes, and does again. */
function useTurn(draft: ReturnType<typeof useDraft>, flush: () => void) {
  const { mutateAsync: turn } = draft.turn;

  return useCallback(
    (way: "back" | "forth") => {
      flush();
      turn(way).then(
        (w) => {
          if (w === undefined)
            toast(way === "back" ? "There is nothing to undo" : "There is nothing to do again");
        },
        (e: unknown) => {
          toast(e instanceof Error ? e.message : String(e));
        },
      );
    },
    [flush, turn],
  );
}

/** What can be done with the lines of a draft as a whole: each is one step that can be undone, and says what it did. */
export function useLines(
  workflow: Workflow,
  draft: ReturnType<typeof useDraft>,
  flush: () => void,
  onChoose: (key: string | undefined) => void,
) {
  const [breaking, setBreaking] = useState<Breaking>();
  const keep = useRef<{ key: string | undefined; fill?: boolean }>(undefined); // the line that gets the focus once the edit is made, or its first field
  const client = useQueryClient();
  const { name } = workflow;
  const inTurn = useInTurn(name);
  const { mutateAsync: send } = draft.edit;
  const back = useTurn(draft, flush);

  /** Makes edits, and says so with a way back. */
  const change = useCallback(
    async (edits: Edit[], said?: string) => {
      flush();
      const before = new Set(client.getQueryData<Workflow>(["workflow", name])?.lines.map(keyOf));
      let made: Workflow;
      try {
        made = await send(edits);
      } catch {
        return; // shown above the lattice
      }
      const depth = historyOf(made.name).length;
      const undo = () => {
        if (historyOf(made.name).length === depth) back("back");
        else toast("Something was changed since; Ctrl+Z goes back one step at a time");
      };
      const fresh = made.lines.find((l) => !before.has(keyOf(l)));
      if (edits.some((e) => ["insert", "paste"].includes(e.op)) && fresh) {
        const step = edits.some((e) => e.op === "insert") && !isCase(fresh);
        keep.current = { key: keyOf(fresh), fill: step };
        if (step) onChoose(keyOf(fresh));
      }
      const followed = made.followed
        ? `; ${plural(made.followed, "reference")} to it follow${made.followed === 1 ? "s" : ""}`
        : "";
      if (said !== undefined) toldWithUndo(said + followed, undo);
    },
    [back, client, flush, name, onChoose, send],
  );

  /** Tells first what the edits would break, if anything. */
  const careful = useCallback(
    async (edits: Edit[], said: string) => {
      flush();
      const plan = await planOf(name, edits).catch(() => undefined);
      const errors = plan?.problems.filter((p) => p.severity === "error") ?? [];
      if (errors.length > 0) setBreaking({ edits, said, problems: errors });
      else await change(edits, said);
    },
    [change, flush, name],
  );

  const copy = useCallback((l: Line) => {
    clipboard = l.text ?? "";
    void navigator.clipboard.writeText(clipboard).catch(() => undefined);
    toast(`Copied: ${shortly(l.sentence)}`);
    return clipboard;
  }, []);
  const remove = (l: Line, after: string | undefined, said: string) => {
    onChoose(undefined);
    inTurn(async () => {
      keep.current = { key: after };
      await careful(
        [{ op: "remove", step: isCase(l) ? (l.inside ?? l.name) : l.name }],
        `${said}: ${shortly(l.sentence)}`,
      );
    });
  };

  return {
    change,
    careful,
    copy,
    back,
    keep,
    breaking,
    settle: (go: boolean) => {
      if (go && breaking) void change(breaking.edits, breaking.said);
      setBreaking(undefined);
    },
    move: (key: string, edit: (lines: Line[]) => Edit | undefined) => {
      inTurn(async (lines) => {
        const e = edit(lines);
        if (!e) {
          toast("It cannot go further that way");
          return;
        }
        keep.current = { key };
        await careful([e], "Moved");
      });
    },
    remove: (l: Line, after: string | undefined) => {
      remove(l, after, "Gone");
    },
    cut: (l: Line, after: string | undefined) => {
      copy(l);
      remove(l, after, "Cut");
    },
    paste: (key: string | undefined, text: string) => {
      if (text.trim() === "") toast("There is nothing to paste: copy a line first");
      else inTurn((lines) => change([pasted(lines, key, text)], "Pasted"));
    },
    duplicate: (l: Line) => {
      inTurn((lines) => change([pasted(lines, keyOf(l), l.text ?? "")], "Duplicated"));
    },
    insert: (place: Place, value: Edit["value"]) => {
      void change([{ op: "insert", ...place, value: value ?? null }]);
    },
  };
}

export type Lines = ReturnType<typeof useLines>;
