import { DropdownMenu } from "radix-ui";
import type { Column } from "../api/client";
import { NUMBERS, visible, type Open, type Shown } from "./columns";
import { Stepper } from "./Stepper";
import { plural } from "../ui/words";

export interface Round {
  round: string;
  rows: number;
  trouble: number;
}

/** How one looks into cases and rounds. */
export interface Nests {
  onOpen?: ((step: Column, into: string | undefined) => void) | undefined;
  rounds?: Readonly<Record<string, Round[]>> | undefined; // of open loops
}

interface Props extends Nests {
  columns: Column[];
  shown: Shown[];
  open: Open;
  lit: string | undefined;
  onFold: (s: Shown) => void;
}

const STRIP = 25;
export const HEAD = 84;

/** The heads of the columns; above those within an open nest stands what it is, and its other cases or rounds. */
export function Heads(props: Props) {
  const { columns, shown, open, lit, onFold } = props;
  const nests = columns.filter(
    (c) =>
      c.nest !== undefined &&
      open[c.name] !== undefined &&
      open[c.name] !== "fallback" &&
      visible(c, columns, open) &&
      shown.some((x) => inside(x.column, c, columns)),
  );
  const depths = new Map(
    nests.map((c) => [c.name, nests.filter((x) => x !== c && inside(c, x, columns)).length]),
  );
  const strips = nests.length === 0 ? 0 : Math.max(...depths.values()) + 1;
  return (
    <div
      role="row"
      className="sticky top-0 z-10 border-b border-rule bg-sheet"
      style={{ height: HEAD + strips * STRIP, minWidth: "100%" }}
    >
      <div
        role="columnheader"
        aria-label="Row"
        className="sticky left-0 z-10 inline-block h-full bg-sheet align-top"
        style={{ width: NUMBERS }}
      />
      {shown.map((s, k) => (
        <div
          key={s.column.name}
          role="columnheader"
          className={`border-l border-rule px-[11px] py-1.5 ${k === 0 ? "sticky z-10 inline-block align-top" : "absolute bottom-0"} ${s.column.name === lit ? "bg-tint" : "bg-sheet"}`}
          style={{
            left: k === 0 ? NUMBERS : s.left,
            width: s.width,
            height: k === 0 ? "100%" : HEAD,
            paddingTop: k === 0 ? 6 + strips * STRIP : undefined,
          }}
        >
          {s.thin ? (
            <button
              className="h-full w-full text-third"
              aria-label={`${s.column.sentence}: unfold`}
              title={s.column.sentence}
              onClick={() => {
                onFold(s);
              }}
              style={{ writingMode: "vertical-rl" }}
            >
              <span className="block max-h-[60px] truncate text-xs">{s.column.line ?? ""}</span>
            </button>
          ) : (
            <Head
              {...props}
              s={s}
              onFold={() => {
                onFold(s);
              }}
              frozen={k === 0}
            />
          )}
        </div>
      ))}
      {nests.map((c) => {
        const list = shown.filter((s) => inside(s.column, c, columns));
        const a = list[0];
        const b = list.at(-1);
        return (
          a &&
          b && (
            <div
              key={c.name}
              role="columnheader"
              className="absolute flex items-center gap-3 overflow-hidden border-l border-rule bg-tint px-[11px] text-xs whitespace-nowrap"
              style={{
                left: a.left,
                width: b.left + b.width - a.left,
                top: (depths.get(c.name) ?? 0) * STRIP,
                height: STRIP,
              }}
            >
              <Strip {...props} of={c} />
            </div>
          )
        );
      })}
    </div>
  );
}

const inside = (c: Column, of: Column, columns: Column[]): boolean =>
  c.within === of.name ||
  (c.within !== undefined && columns.some((x) => x.name === c.within && inside(x, of, columns)));

/** What stands above the columns of an open nest. */
function Strip({ of, open, onOpen, rounds }: Props & { of: Column }) {
  const close = (
    <button
      className="ml-auto underline"
      onClick={() => {
        onOpen?.(of, undefined);
      }}
    >
      close
    </button>
  );
  if (of.nest === "loop")
    return (
      <>
        <span className="truncate font-semibold">{of.sentence}</span>
        <Stepper
          rounds={rounds?.[of.name] ?? []}
          at={open[of.name] ?? ""}
          onGo={(r) => {
            onOpen?.(of, r);
          }}
        />
        {close}
      </>
    );
  return (
    <>
      <span className="truncate font-semibold">{of.sentence}</span>
      {of.ways
        ?.filter((w) => w.name)
        .map((w) => (
          <button
            key={w.name}
            aria-pressed={open[of.name] === w.name}
            className={`rounded-full px-2 ${open[of.name] === w.name ? "bg-leaf font-semibold text-onleaf" : "hover:underline"}`}
            onClick={() => {
              onOpen?.(of, w.name);
            }}
          >
            {w.way} {w.count.toLocaleString("en")}
          </button>
        ))}
      {close}
    </>
  );
}

function Head({
  s,
  onFold,
  onOpen,
  open,
  frozen,
}: Props & { s: Shown; onFold: () => void; frozen: boolean }) {
  const c = s.column;
  return (
    <div className="group flex h-full min-w-0 flex-col justify-end">
      <div className="line-clamp-2 leading-tight font-semibold" title={c.sentence}>
        {c.depth ? `${c.line ?? ""} ` : ""}
        {c.sentence}
      </div>
      <div className="truncate text-xs text-second">
        {c.kind}
        {c.connection ? ` · ${c.connection}` : ""}
      </div>
      <div className="flex gap-1.5 text-xs text-second">
        <span className="shrink-0">{figures(c)}</span>
        <Into column={c} into={open[c.name]} onOpen={onOpen} />
        {!frozen && (
          <button
            className="ml-auto opacity-0 group-hover:opacity-100 focus-visible:opacity-100"
            aria-label={`Fold ${c.sentence}`}
            title="Fold this column"
            onClick={onFold}
          >
            »
          </button>
        )}
      </div>
    </div>
  );
}

/** How one looks into a nest that is closed. */
function Into({
  column: c,
  into,
  onOpen,
}: {
  column: Column;
  into: string | undefined;
  onOpen: Nests["onOpen"];
}) {
  if (!onOpen || c.nest === undefined) return null;
  const look = "min-w-0 truncate rounded-full border border-rule px-1.5 text-leafink hover:border-edge";
  if (c.nest === "fallback") {
    const n = c.fell_back ?? 0;
    return n > 0 || into ? (
      <button
        className={look}
        aria-expanded={into !== undefined}
        onClick={() => {
          onOpen(c, into ? undefined : "fallback");
        }}
      >
        {into ? "close the fallback" : `${n.toLocaleString("en")} by the fallback`}
      </button>
    ) : null;
  }
  if (c.nest === "loop")
    return (
      <button
        className={look}
        onClick={() => {
          onOpen(c, "");
        }}
      >
        {plural(c.rounds ?? 0, "round")}
      </button>
    );
  return (
    <DropdownMenu.Root modal={false}>
      <DropdownMenu.Trigger className={look}>
        {c.ways?.map((w) => `${w.way} ${w.count.toLocaleString("en")}`).join(", ")}
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content className="card z-40 p-1 shadow-lg" align="start" sideOffset={4}>
          {c.ways
            ?.filter((w) => w.name)
            .map((w) => (
              <DropdownMenu.Item
                key={w.name}
                className="flex cursor-pointer gap-4 rounded-md px-2.5 py-1 outline-none data-[highlighted]:bg-tint data-[highlighted]:shadow-[inset_3px_0_0_var(--leaf)]"
                onSelect={() => {
                  onOpen(c, w.name);
                }}
              >
                <span>{w.way}</span>
                <span className="ml-auto text-second">{w.count.toLocaleString("en")}</span>
              </DropdownMenu.Item>
            ))}
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}

function figures(c: Column): string {
  const flow =
    c.in === c.out
      ? c.in.toLocaleString("en")
      : `${c.in.toLocaleString("en")} → ${c.out.toLocaleString("en")}`;
  const time =
    c.millis > 0
      ? ` · ${c.millis < 1000 ? `${String(c.millis)} ms` : `${(c.millis / 1000).toFixed(1)} s`}`
      : "";
  return `${flow}${time}${c.units > 0 ? ` · ${plural(c.units, "unit")}` : ""}`;
}
