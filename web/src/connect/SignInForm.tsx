import { useState, type FormEvent } from "react";
import { asFields, type Connection, type Connector, type Fields } from "../api/client";
import { Field } from "../form/Field";
import { Trouble } from "../ui/parts";
import { goingAway } from "./comeBack";
import { useBeginConsent, useStoreConnection } from "../api/connections";

interface Props {
  connector: Connector;
  known?: Connection; // to be mended
  onDone: (c: Connection) => void;
}

/** Enters an account: its parameters, and what its way of signing in asks for. */
export function SignInForm({ connector, known, onDone }: Props) {
  const [method, setMethod] = useState(known?.method ?? connector.sign_in[0]?.method ?? "none");
  const [account, setAccount] = useState<Fields>(known ? asFields(known.account) : {});
  const [values, setValues] = useState<Record<string, string>>({});
  const [name, setName] = useState(known?.name ?? connector.name);
  const way = connector.sign_in.find((w) => w.method === method);
  const [scopes, setScopes] = useState<string[]>(known?.scopes ?? way?.scopes?.map((s) => s.name) ?? []);
  const store = useStoreConnection(known);
  return (
    <form
      onSubmit={(e: FormEvent) => {
        e.preventDefault();
        store.mutate(
          {
            name,
            connector: connector.name,
            method,
            account,
            values,
            ...(way?.scopes && way.scopes.length > 0 ? { scopes } : {}),
          },
          {
            onSuccess: (c) => {
              setValues({});
              onDone(c);
            },
          },
        );
      }}
    >
      <div className="mb-3.5 space-y-3.5">
        {connector.account.map((p) => (
          <Field
            key={p.name}
            id={`account-${p.name}`}
            property={p}
            value={account[p.name]}
            around={{ connection: undefined, values: account }}
            optional
            onSet={(v) => {
              setAccount({ ...account, [p.name]: v ?? "" });
            }}
          />
        ))}
      </div>
      {connector.sign_in.length > 1 && (
        <fieldset className="mb-3.5">
          <legend className="label">How to sign in</legend>
          <div className="flex flex-wrap gap-x-5 gap-y-1.5">
            {connector.sign_in.map((w) => (
              <label key={w.method} className="flex items-center gap-1.5">
                <input
                  type="radio"
                  name="method"
                  className="accent-leaf"
                  checked={method === w.method}
                  onChange={() => {
                    setMethod(w.method);
                    setValues({});
                    setScopes(w.scopes?.map((s) => s.name) ?? []);
                  }}
                />
                {w.title}
              </label>
            ))}
          </div>
        </fieldset>
      )}
      {way?.help && <div className="mb-3.5 rounded-lg bg-tint px-3 py-2 text-leafink">{way.help}</div>}
      {way?.redirect && (
        <div className="mb-3.5">
          <span className="label">Redirect address, to register there</span>
          <code className="block rounded-lg border border-rule px-2.5 py-1.5 font-mono text-xs break-all select-all">
            {way.redirect}
          </code>
        </div>
      )}
      {way?.secrets.map((f) => (
        <div key={f.name} className="mb-3.5">
          <label className="label" htmlFor={`secret-${f.name}`}>
            {f.title}
            {!f.required && <span className="font-normal text-third"> if there is one</span>}
          </label>
          <input
            id={`secret-${f.name}`}
            className="field font-mono"
            type={f.shown ? "text" : "password"}
            autoComplete="off"
            required={f.required}
            value={values[f.name] ?? ""}
            onChange={(e) => {
              setValues({ ...values, [f.name]: e.target.value });
            }}
          />
        </div>
      ))}
      {way && way.secrets.length > 0 && (
        <div className="hint -mt-2 mb-3.5">Stored encrypted, and never shown again.</div>
      )}
      {way?.scopes && way.scopes.length > 0 && (
        <fieldset className="mb-3.5">
          <legend className="label">What it may do there</legend>
          {way.scopes.map((s) => (
            <label key={s.name} className="mb-1 flex items-center gap-2">
              <input
                type="checkbox"
                className="accent-leaf"
                disabled={s.always}
                checked={s.always || scopes.includes(s.name)}
                onChange={(e) => {
                  setScopes(e.target.checked ? [...scopes, s.name] : scopes.filter((x) => x !== s.name));
                }}
              />
              {s.title} <span className="font-mono text-xs text-third">{s.name}</span>
            </label>
          ))}
        </fieldset>
      )}
      {!known && (
        <div className="mb-4">
          <label className="label" htmlFor="connection-name">
            What to call it here
          </label>
          <input
            id="connection-name"
            className="field"
            required
            pattern="[a-z][a-z0-9\-]*"
            title="Small letters, digits and hyphens"
            value={name}
            onChange={(e) => {
              setName(e.target.value);
            }}
          />
        </div>
      )}
      <Trouble error={store.error} />
      <div className="flex justify-end">
        <button className="btn btn-main" disabled={store.isPending}>
          {store.isPending ? "Checking…" : way?.consent ? "Store and go on" : "Store and check"}
        </button>
      </div>
    </form>
  );
}

/** Opens the consent page of a connection; one comes back to where one was. */
export function ConsentButton({ connection, again = false }: { connection: string; again?: boolean }) {
  const begin = useBeginConsent(connection);
  return (
    <>
      <button
        className={`btn ${again ? "" : "btn-main"}`}
        disabled={begin.isPending}
        onClick={() => {
          begin.mutate(undefined, {
            onSuccess: (page) => {
              goingAway(connection);
              window.location.assign(page.address);
            },
          });
        }}
      >
        {again ? "Sign in again" : "Open the consent page"}
      </button>
      <Trouble error={begin.error} />
    </>
  );
}
