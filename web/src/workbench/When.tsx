import { useState, type KeyboardEvent } from "react";
import { asFields, Refusal, type Fields, type Schemas, type Workflow } from "../api/client";
import type { Edit } from "../api/draft";
import { ownZone, useCadence } from "../api/schedule";
import { Times } from "../schedule/Times";
import { plural } from "../ui/words";
import { useSettled } from "../ui/useSettled";

/** When a workflow starts by the clock: a line as one would say it, and its next times. */
export function When({ workflow, onEdit }: { workflow: Workflow; onEdit: (edits: Edit[]) => void }) {
  const settings = asFields(workflow.trigger_settings);
  const stands = useCadence(standsAs(workflow), true);
  const [typed, setTyped] = useState<string>();
  const sentence = stands.data?.sentence ?? "";
  const text = typed ?? sentence;
  const asked = useSettled(typed, 250);
  const meant = useCadence(
    asked?.trim() && asked !== sentence ? { phrase: asked, zone: zoneOf(settings) } : undefined,
  );
  const typing = typed !== undefined && typed !== sentence;
  const shown = typing ? meant : stands;
  const take = () => {
    const c = meant.data;
    if (!typing || !c || asked !== typed) return;
    onEdit([{ op: "trigger", key: "settings", value: { ...kept(settings), ...asFields(c.settings) } }]);
    setTyped(undefined);
  };
  return (
    <div>
      <label className="label" htmlFor="trigger-when">
        When
      </label>
      <input
        id="trigger-when"
        className="field"
        spellCheck={false}
        autoComplete="off"
        placeholder="every working day at 8"
        value={text}
        aria-describedby="trigger-when-said"
        aria-invalid={shown.error !== null}
        onChange={(e) => {
          setTyped(e.target.value);
        }}
        onBlur={take}
        onKeyDown={(e: KeyboardEvent) => {
          if (e.key === "Enter") take();
          if (e.key === "Escape" && typing) {
            e.stopPropagation();
            setTyped(undefined);
          }
        }}
      />
      <div id="trigger-when-said" className="mt-1 min-h-[18px]" role="status">
        <Said shown={shown} typing={typing} empty={!text.trim()} />
      </div>
      {typeof settings["readers"] === "string" && (
        <p className="hint mt-1">
          Rows of {settings["readers"]} that have an hour of their own are due at that; the others as here.
        </p>
      )}
      {shown.data && <Times times={shown.data.times} zone={shown.data.zone} clocks={shown.data.clocks} />}
    </div>
  );
}

/** What is asked about the times that stand; nothing where nothing has been said of when. */
export function standsAs(workflow: Workflow | undefined) {
  const settings = asFields(workflow?.trigger_settings);
  return workflow?.timed && said(settings) ? { settings, workflow: workflow.name } : undefined;
}

/** What is made of the line, or why nothing can be. */
function Said({
  shown,
  typing,
  empty,
}: {
  shown: { data?: Schemas["Cadence"] | undefined; error: Error | null };
  typing: boolean;
  empty: boolean;
}) {
  if (empty)
    return (
      <span className="hint">
        As you would say it: every 10 minutes; every working day at 8; on the last Friday of the month at
        17:00.
      </span>
    );
  if (shown.error) return <span className="text-rust">{wordsOf(shown.error)}</span>;
  if (!shown.data) return null;
  return (
    <span className="hint">
      {typing ? `${capital(shown.data.sentence)}: ` : ""}
      {plural(shown.data.a_week, "time")} within seven days.{typing ? " Enter takes it." : ""}
    </span>
  );
}

const wordsOf = (e: Error) => (e instanceof Refusal && e.fields[0] ? e.fields[0].message : e.message);

const capital = (s: string) => s.slice(0, 1).toUpperCase() + s.slice(1);

/** Whether anything has been said of when. */
const said = (s: Fields) => ["every", "cron"].some((n) => typeof s[n] === "string" && s[n] !== "");

const zoneOf = (s: Fields) => (typeof s["zone"] === "string" ? s["zone"] : said(s) ? "UTC" : ownZone());

/** What a new line leaves as it is. */
const kept = (s: Fields): Fields =>
  Object.fromEntries(
    Object.entries(s).filter(([name]) => ["missed", "most", "readers", "only"].includes(name)),
  );
