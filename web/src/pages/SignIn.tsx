import { useState, type FormEvent } from "react";
import { Trouble } from "../ui/parts";
import { useFirstFocus } from "../ui/useFirstFocus";
import { useSignIn } from "../api/session";

export function SignIn() {
  const focus = useFirstFocus<HTMLInputElement>();
  const [email, setEmail] = useState("");
  const [password, setPassword] = useState("");
  const signIn = useSignIn();
  const submit = (e: FormEvent) => {
    e.preventDefault();
    signIn.mutate({ email, password });
  };
  return (
    <main className="flex min-h-screen items-center justify-center">
      <form onSubmit={submit} className="card w-[340px] p-7">
        <div className="mb-5 flex items-center gap-2">
          <img src="/trellis.svg" alt="" className="h-6 w-6" />
          <h1>Young Trellis</h1>
        </div>
        <label className="label" htmlFor="email">
          Mail address
        </label>
        <input
          id="email"
          className="field mb-3"
          type="email"
          autoComplete="username"
          ref={focus}
          required
          value={email}
          onChange={(e) => {
            setEmail(e.target.value);
          }}
        />
        <label className="label" htmlFor="password">
          Password
        </label>
        <input
          id="password"
          className="field mb-4"
          type="password"
          autoComplete="current-password"
          required
          value={password}
          onChange={(e) => {
            setPassword(e.target.value);
          }}
        />
        <Trouble error={signIn.error} />
        <button className="btn btn-main w-full justify-center" disabled={signIn.isPending}>
          Sign in
        </button>
      </form>
    </main>
  );
}
