import { ChevronRight, Copy } from "lucide-react";
import { useEffect, useState } from "react";
import { toast } from "sonner";
import type { Schemas } from "../api/client";
import { useCallSheet, useEndHookSecret, useMakeHookSecret, useTestCall } from "../api/workflows";
import { Trouble } from "../ui/parts";
import { when } from "../ui/words";

const copy = (text: string) => {
  void navigator.clipboard.writeText(text).then(
    () => toast("Copied"),
    () => toast("Copy it by hand; the browser did not allow it"),
  );
};

/** What the other side needs: the address, how a call proves itself, and a secret. */
export function CallSheet({ workflow, saved }: { workflow: string; saved: number }) {
  const sheet = useCallSheet(workflow, true);
  const make = useMakeHookSecret(workflow);
  const end = useEndHookSecret(workflow);
  const { refetch } = sheet;
  useEffect(() => {
    void refetch(); // how a call proves itself is said by the draft
  }, [refetch, saved]);
  if (!sheet.data) return <Trouble error={sheet.error} />;
  const { address, answer, calls, page, proof, secrets, verify } = sheet.data;
  if (page) return <ItsPage sheet={sheet.data} />;
  const secret = make.data?.secret;
  return (
    <div>
      <span className="label">Its address</span>
      <Copied words={address} what="the address" testid="hook-address" />
      <p className="hint mt-1">{proof}</p>
      {verify !== "none" && (
        <div className="mt-2 space-y-2">
          {secret && (
            <div>
              <span className="label">The secret, shown this once</span>
              <Copied words={secret} what="the secret" testid="hook-secret" fresh />
            </div>
          )}
          {secrets.map((s, i) => (
            <OneSecret
              key={s.id}
              secret={s}
              fresh={s.id === make.data?.id}
              last={secrets.length === 1}
              number={secrets.length - i}
              busy={end.isPending}
              onEnd={() => {
                end.mutate(s.id);
              }}
            />
          ))}
          {secrets.length < 2 && (
            <div className="flex items-center gap-3">
              <button
                type="button"
                className="btn"
                disabled={make.isPending}
                onClick={() => {
                  make.mutate();
                }}
              >
                {secrets.length > 0 ? "Make another" : "Make its secret"}
              </button>
              <span className="hint">
                {secrets.length > 0
                  ? "Both count until you end the one before."
                  : "Callers prove themselves with it."}
              </span>
            </div>
          )}
        </div>
      )}
      <Calls calls={calls} answer={answer} />
      <TestCall workflow={workflow} ready={verify === "none" || secrets.length > 0} />
      <Trouble error={make.error ?? end.error} />
    </div>
  );
}

/** Where a form is. */
function ItsPage({ sheet }: { sheet: Schemas["CallSheet"] }) {
  return (
    <div>
      <span className="label">Its page</span>
      <Copied words={sheet.address} what="the address" testid="form-address" />
      <p className="hint mt-1">
        {sheet.open ? (
          <a className="text-leafink underline" href={sheet.address} target="_blank" rel="noreferrer">
            Open the form
          </a>
        ) : (
          "It can be opened once the workflow is live, or while a sample is taken."
        )}{" "}
        {sheet.proof}
      </p>
    </div>
  );
}

/** A call as the other side would make it, and what it was answered. */
function TestCall({ workflow, ready }: { workflow: string; ready: boolean }) {
  const call = useTestCall(workflow);
  return (
    <div className="mt-2">
      <div className="flex items-center gap-3">
        <button
          type="button"
          className="btn"
          disabled={!ready || call.isPending}
          onClick={() => {
            call.mutate();
          }}
        >
          Send a test call
        </button>
        <span className="hint">
          {ready
            ? "As the other side would, with the first sample. Live, it starts a run as any call."
            : "Make its secret first; callers prove themselves with it."}
        </span>
      </div>
      {call.data && (
        <div className="mt-1.5 rounded-lg border border-rule bg-sheet px-2 py-1.5" role="status">
          Answered {call.data.status}
          {call.data.run && (
            <>
              {", "}
              <a className="text-leafink underline" href={`/runs/${call.data.run}`}>
                open its run
              </a>
            </>
          )}
          {call.data.said && (
            <pre className="mt-1 max-h-32 overflow-auto font-mono text-xs break-words whitespace-pre-wrap">
              {call.data.said}
            </pre>
          )}
        </div>
      )}
      <Trouble error={call.error} />
    </div>
  );
}

const languages: Record<Schemas["CallSheet"]["calls"][number]["in"], string> = {
  curl: "curl",
  python: "Python",
  javascript: "JavaScript",
};

/** A call as a command and as programs, and what it is answered. */
function Calls({ calls, answer }: { calls: Schemas["CallSheet"]["calls"]; answer: string }) {
  const [open, setOpen] = useState(false);
  const [shown, setShown] = useState<string>("curl");
  const text = calls.find((c) => c.in === shown)?.text ?? "";
  return (
    <div className="mt-2">
      <button
        type="button"
        className="inline-flex items-center gap-1.5 text-second hover:text-ink"
        aria-expanded={open}
        onClick={() => {
          setOpen(!open);
        }}
      >
        <ChevronRight size={14} className={open ? "rotate-90" : ""} aria-hidden /> A call, as a command or a
        program
      </button>
      {open && (
        <>
          <div className="mt-1 flex items-baseline gap-3" role="group" aria-label="Shown as">
            {calls.map((c) => (
              <button
                key={c.in}
                type="button"
                aria-pressed={c.in === shown}
                className={c.in === shown ? "font-semibold" : "text-second hover:text-ink"}
                onClick={() => {
                  setShown(c.in);
                }}
              >
                {languages[c.in]}
              </button>
            ))}
            <button
              type="button"
              className="ml-auto text-second hover:text-ink hover:underline"
              onClick={() => {
                copy(text);
              }}
            >
              Copy
            </button>
          </div>
          <pre className="mt-1 rounded-lg border border-rule bg-sheet p-2 font-mono text-xs break-words whitespace-pre-wrap">
            {text}
          </pre>
          <p className="hint mt-1">Live, it is answered {answer}</p>
        </>
      )}
    </div>
  );
}

function OneSecret({
  secret: s,
  fresh,
  last,
  number,
  busy,
  onEnd,
}: {
  secret: Schemas["HookSecret"];
  fresh: boolean;
  last: boolean;
  number: number;
  busy: boolean;
  onEnd: () => void;
}) {
  return (
    <div className="flex items-baseline gap-2" role="group" aria-label={`Secret ${String(number)}`}>
      <span className="min-w-0 flex-1">
        {fresh ? "This secret" : "A secret"} of {when(s.made)}
        <span className="text-second">
          , by {s.made_by}, {s.used ? `used last ${when(s.used)}` : "never used"}
        </span>
      </span>
      <button
        type="button"
        className="shrink-0 text-second hover:text-rust hover:underline"
        disabled={busy}
        title={last ? "Nobody can call then until another is made" : undefined}
        onClick={onEnd}
      >
        End it
      </button>
    </div>
  );
}

function Copied({
  words,
  what,
  testid,
  fresh = false,
}: {
  words: string;
  what: string;
  testid: string;
  fresh?: boolean;
}) {
  return (
    <div className="flex items-center gap-2">
      <code
        className={`min-w-0 flex-1 rounded-lg border ${fresh ? "border-leaf" : "border-rule"} bg-sheet px-2 py-1.5 font-mono text-xs break-all`}
        data-testid={testid}
      >
        {words}
      </code>
      <button
        type="button"
        className="btn px-2"
        aria-label={`Copy ${what}`}
        onClick={() => {
          copy(words);
        }}
      >
        <Copy size={14} />
      </button>
    </div>
  );
}
