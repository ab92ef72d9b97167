import { type FormEvent, useState } from "react";
import { useSignIn } from "../api/queries";
import { Wordmark } from "../ui/Wordmark";

export function SignIn() {
  const signIn = useSignIn();
  const [username, setUsername] = useState("");
  const [password, setPassword] = useState("");

  function submit(event: FormEvent) {
    event.preventDefault();
    signIn.mutate({ username, password });
  }

  return (
    <main className="h-full grid place-items-center">
      <form onSubmit={submit} className="w-80">
        <h1 className="text-3xl mb-1">
          <Wordmark />
        </h1>
        <p className="text-faint mb-6">What a routed network does with a packet, and why.</p>
        <label className="block mb-3">
          <span className="text-sm text-faint">name</span>
          <input
            name="username"
            autoComplete="username"
            required
            value={username}
            onChange={(event) => setUsername(event.target.value)}
            className="block w-full border-b border-faint bg-transparent py-1 outline-offset-4"
          />
        </label>
        <label className="block mb-5">
          <span className="text-sm text-faint">password</span>
          <input
            name="password"
            type="password"
            autoComplete="current-password"
            required
            value={password}
            onChange={(event) => setPassword(event.target.value)}
            className="block w-full border-b border-faint bg-transparent py-1 outline-offset-4"
          />
        </label>
        <button
          type="submit"
          disabled={signIn.isPending}
          className="w-full border border-ink py-1.5 hover:bg-wash disabled:opacity-60"
        >
          {signIn.isPending ? "signing in …" : "sign in"}
        </button>
        {signIn.isError && (
          <p role="alert" className="text-stop mt-3">
            {signIn.error.message}
          </p>
        )}
      </form>
    </main>
  );
}
