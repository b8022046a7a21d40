import { useState, type FormEvent } from "react";
import { asFields, type Connection, type Connector, type Fields } from "../api/client";
import { Field } from "../form/Field";
import { Trouble } from "../ui/parts";
import { CalledHere, Meant, Scopes, SecretField } from "./SignInFields";
import { useStoreConnection } from "../api/connections";

interface Props {
  connector: Connector;
  known?: Connection; // to be mended
  onDone: (c: Connection) => void;
}

/** Enters an account: its parameters, and what its way of signing in asks for. */
export function SignInForm({ connector, known, onDone }: Props) {
  const [method, setMethod] = useState(known?.method ?? connector.sign_in[0]?.name ?? "none");
  const [account, setAccount] = useState<Fields>(known ? asFields(known.account) : {});
  const [values, setValues] = useState<Record<string, string>>({});
  const [name, setName] = useState(known?.name ?? connector.name);
  const way = connector.sign_in.find((w) => w.name === method);
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
          <div key={p.name}>
            <Field
              id={`account-${p.name}`}
              property={p}
              value={account[p.name]}
              around={{ connection: undefined, values: account }}
              optional
              onSet={(v) => {
                setAccount({ ...account, [p.name]: v ?? "" });
              }}
            />
            {p.name === "address" && (
              <Meant
                typed={account[p.name]}
                onTake={(v) => {
                  setAccount({ ...account, [p.name]: v });
                }}
              />
            )}
          </div>
        ))}
      </div>
      {connector.sign_in.length > 1 && (
        <fieldset className="mb-3.5">
          <legend className="label">How to sign in</legend>
          <div className="flex flex-wrap gap-x-5 gap-y-1.5">
            {connector.sign_in.map((w) => (
              <label key={w.name} className="flex items-center gap-1.5">
                <input
                  type="radio"
                  name="method"
                  className="accent-leaf"
                  checked={method === w.name}
                  onChange={() => {
                    setMethod(w.name);
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
        <SecretField
          key={f.name}
          of={f}
          value={values[f.name] ?? ""}
          onSet={(v) => {
            setValues({ ...values, [f.name]: v });
          }}
        />
      ))}
      {way && way.secrets.length > 0 && (
        <div className="hint -mt-2 mb-3.5">Stored encrypted, and never shown again.</div>
      )}
      {way?.scopes && way.scopes.length > 0 && (
        <Scopes list={way.scopes} chosen={scopes} onChoose={setScopes} />
      )}
      {!known && <CalledHere name={name} onSet={setName} />}
      <Trouble error={store.error} />
      <div className="flex justify-end">
        <button className="btn btn-main" disabled={store.isPending}>
          {store.isPending ? "Checking…" : way?.consent ? "Store and go on" : "Store and check"}
        </button>
      </div>
    </form>
  );
}
