import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Copy } from "lucide-react";
import { useState } from "react";
import { toast } from "sonner";
import { ask, asFields, http, type Fields, type Workflow } from "../api/client";
import { readJson, writeJson } from "../api/exact";
import { useCallSheet, useSamples, type Edit } from "../api/queries";
import { Trouble } from "../ui/parts";
import { when } from "../ui/words";
import { ExpressionField } from "../form/ExpressionField";

const copy = (text: string) => {
  void navigator.clipboard.writeText(text).then(
    () => toast("Copied"),
    () => toast("Copy it by hand; the browser did not allow it"),
  );
};

/** What starts the workflow, and its samples. */
export function TriggerForm({
  workflow,
  item,
  onEdit,
}: {
  workflow: Workflow;
  item: Fields | undefined;
  onEdit: (edits: Edit[]) => void;
}) {
  const settings = asFields(workflow.trigger_settings);
  const called = workflow.trigger_type === "webhook";
  return (
    <div className="space-y-3.5 pt-2 pb-3">
      {called && (
        <>
          <CallSheet workflow={workflow.name} verify={settings["verify"] !== "none"} />
          <div>
            <span className="label">Once for each</span>
            <ExpressionField
              label="Once for each"
              template={false}
              value={typeof settings["key"] === "string" ? settings["key"] : ""}
              placeholder="item.call_id"
              onChange={(v) => {
                onEdit([{ op: "trigger", key: "settings.key", value: v || null }]);
              }}
              item={item}
              trigger={item}
              steps={[]}
              row={undefined}
            />
            <div className="hint mt-1">
              The same key starts nothing again for{" "}
              {typeof settings["for"] === "string" ? settings["for"] : "7d"}.
            </div>
          </div>
        </>
      )}
      {!called && (
        <div className="text-second">Press Start on a live workflow, or use the command line or the API.</div>
      )}
      <Samples workflow={workflow.name} called={called} />
    </div>
  );
}

function CallSheet({ workflow, verify }: { workflow: string; verify: boolean }) {
  const sheet = useCallSheet(workflow, true);
  const client = useQueryClient();
  const [secret, setSecret] = useState<string>();
  const make = useMutation({
    mutationFn: () => ask(http.POST("/workflows/{workflow}/hook", { params: { path: { workflow } } })),
    onSuccess: (s) => {
      setSecret(s.secret);
      void client.invalidateQueries({ queryKey: ["hook", workflow] });
    },
  });
  if (!sheet.data) return <Trouble error={sheet.error} />;
  return (
    <div>
      <span className="label">Its address</span>
      <div className="flex items-center gap-2">
        <code
          className="min-w-0 flex-1 rounded-lg border border-rule bg-sheet px-2 py-1.5 font-mono text-xs break-all"
          data-testid="hook-address"
        >
          {sheet.data.address}
        </code>
        <button
          type="button"
          className="btn px-2"
          aria-label="Copy the address"
          onClick={() => {
            copy(sheet.data.address);
          }}
        >
          <Copy size={14} />
        </button>
      </div>
      {verify && (
        <div className="mt-2">
          {secret ? (
            <>
              <span className="label">Its secret, shown this once</span>
              <div className="flex items-center gap-2">
                <code
                  className="min-w-0 flex-1 rounded-lg border border-leaf bg-sheet px-2 py-1.5 font-mono text-xs break-all"
                  data-testid="hook-secret"
                >
                  {secret}
                </code>
                <button
                  type="button"
                  className="btn px-2"
                  aria-label="Copy the secret"
                  onClick={() => {
                    copy(secret);
                  }}
                >
                  <Copy size={14} />
                </button>
              </div>
              <div className="hint mt-1">The caller sends it as Authorization: Bearer and the secret.</div>
            </>
          ) : (
            <div className="flex items-center gap-3">
              <button
                type="button"
                className="btn"
                disabled={make.isPending}
                onClick={() => {
                  make.mutate();
                }}
              >
                {sheet.data.secured ? "Make a new secret" : "Make its secret"}
              </button>
              <span className="hint">
                {sheet.data.secured ? "A new one ends the one in use." : "Callers prove themselves with it."}
              </span>
            </div>
          )}
        </div>
      )}
      <Trouble error={make.error} />
    </div>
  );
}

function Samples({ workflow, called }: { workflow: string; called: boolean }) {
  const client = useQueryClient();
  const [text, setText] = useState("");
  const [writing, setWriting] = useState(false);
  const [waiting, setWaiting] = useState(false);
  const samples = useSamples(workflow, waiting);
  const again = () => client.invalidateQueries({ queryKey: ["samples", workflow] });
  const path = { params: { path: { workflow } } };
  const take = useMutation({
    mutationFn: () => ask(http.POST("/workflows/{workflow}/samples/take", path)),
    onSuccess: () => {
      setWaiting(true);
      void again();
    },
  });
  const add = useMutation({
    mutationFn: () => {
      const fields: unknown = readJson(text);
      return ask(http.POST("/workflows/{workflow}/samples", { ...path, body: { fields } }));
    },
    onSuccess: () => {
      setText("");
      setWriting(false);
      void again();
    },
  });
  const remove = useMutation({
    mutationFn: (id: string) =>
      ask(http.DELETE("/workflows/{workflow}/samples/{id}", { params: { path: { workflow, id } } })),
    onSuccess: again,
  });
  const list = samples.data?.samples ?? [];
  const refused = samples.data?.arrived.filter((d) => d.verdict === "refused").slice(0, 3) ?? [];
  return (
    <div>
      <span className="label">Samples</span>
      {list.map((s, i) => (
        <div key={s.id} className="flex items-baseline gap-2">
          <span className="text-third">{i + 1}</span>
          <span className="min-w-0 flex-1 truncate font-mono text-xs" title={writeJson(s.fields)}>
            {writeJson(s.fields)}
          </span>
          <button
            type="button"
            className="text-xs text-third hover:text-rust"
            onClick={() => {
              remove.mutate(s.id);
            }}
          >
            remove
          </button>
        </div>
      ))}
      {list.length === 0 && (
        <div className="text-second">
          {called
            ? "None yet. Take one from a real call, or write one."
            : "None. A start without items gives the first line one empty item."}
        </div>
      )}
      {samples.data?.taking && (
        <div className="mt-1.5 rounded-lg bg-ambertint px-3 py-2 text-amber" role="status">
          Waiting for the next call. It becomes a sample and starts nothing.
        </div>
      )}
      {refused.length > 0 && called && (
        <div className="mt-1.5 text-second">
          {refused.map((d) => (
            <div key={d.at}>
              {when(d.at)}: a call was refused, {d.reason}
            </div>
          ))}
        </div>
      )}
      <div className="mt-2 flex gap-2">
        {called && (
          <button
            type="button"
            className="btn"
            disabled={take.isPending}
            onClick={() => {
              take.mutate();
            }}
          >
            Take the next call
          </button>
        )}
        <button
          type="button"
          className="btn"
          onClick={() => {
            setWriting(!writing);
          }}
        >
          Write one
        </button>
      </div>
      {writing && (
        <div className="mt-2">
          <textarea
            aria-label="A sample as JSON"
            className="h-28 w-full rounded-lg border border-edge bg-sheet p-2 font-mono text-xs"
            placeholder={'{"number": "+441632960141", "duration_s": 62}'}
            value={text}
            onChange={(e) => {
              setText(e.target.value);
            }}
          />
          <button
            type="button"
            className="btn"
            disabled={!text.trim() || add.isPending}
            onClick={() => {
              add.mutate();
            }}
          >
            Keep it
          </button>
        </div>
      )}
      <Trouble error={take.error ?? add.error ?? remove.error} />
    </div>
  );
}
