import { type FormEvent, useState } from "react";
import { Link } from "react-router";
import { useMakeToken, useTakeBackToken, useTokens } from "../api/queries";
import { Empty, Failed, Waiting } from "../ui/states";
import { useTimes } from "../ui/times";
import { Wordmark } from "../ui/Wordmark";

const TERMS: [string, number | null][] = [
  ["30 days", 30],
  ["a year", 365],
  ["until taken back", null],
];

/** The tokens by which scripts act for the user: made by name, listed with their age and end, taken back. */
export function TokensPage() {
  const shownTime = useTimes();
  const tokens = useTokens();
  const make = useMakeToken();
  const takeBack = useTakeBackToken();
  const [name, setName] = useState("");
  const [term, setTerm] = useState(1);

  function submit(event: FormEvent) {
    event.preventDefault();
    make.mutate({ name: name.trim(), days: TERMS[term]?.[1] ?? null }, { onSuccess: () => setName("") });
  }

  return (
    <div className="h-full overflow-auto">
      <header className="flex items-baseline gap-5 px-6 pt-3 pb-2 border-b border-hair">
        <h1 className="text-xl">
          <Link to="/">
            <Wordmark />
          </Link>
        </h1>
      </header>
      <main className="px-6 py-5 max-w-[56rem]">
        <h2 id="tokens-title" className="text-lg mb-1">
          Tokens for scripts
        </h2>
        <p className="text-faint mb-4">
          A script that sends a token acts for you. A new password ends all of them.
        </p>
        <form onSubmit={submit} className="flex gap-3 items-baseline mb-4">
          <input
            aria-label="what the token is for"
            placeholder="what it is for"
            maxLength={100}
            value={name}
            onChange={(event) => setName(event.target.value)}
            className="flex-1 border-b border-hair bg-transparent py-1"
          />
          <select
            aria-label="how long it holds"
            value={term}
            onChange={(event) => setTerm(Number(event.target.value))}
            className="bg-paper border-b border-hair py-1"
          >
            {TERMS.map(([words], index) => (
              <option key={words} value={index}>
                {words}
              </option>
            ))}
          </select>
          <button
            type="submit"
            disabled={!name.trim() || make.isPending}
            className="border border-ink px-4 py-1 hover:bg-wash disabled:opacity-50 disabled:cursor-default"
          >
            make a token
          </button>
        </form>
        {make.data && (
          <div role="status" className="border-l-2 border-good pl-3 mb-4" data-testid="new-token">
            <p>This is the only time that it is shown. Send it as</p>
            <code className="mono block break-all py-1 select-all">
              Authorization: Token {make.data.token}
            </code>
          </div>
        )}
        {make.isError && (
          <p role="alert" className="text-stop mb-4">
            {make.error.message}
          </p>
        )}
        {tokens.isPending && <Waiting what="your tokens" />}
        {tokens.isError && <Failed error={tokens.error} what="Your tokens cannot be listed." />}
        {tokens.data?.length === 0 && <Empty title="No token yet.">Make one above for each script.</Empty>}
        <ul>
          {tokens.data?.map((token) => (
            <li
              key={token.id}
              className="border-t border-hair py-2 flex items-baseline gap-4"
              data-testid="token"
            >
              <span>{token.name}</span>
              <span className="text-faint">
                made {shownTime(token.created_at)} ·{" "}
                {token.last_used_at ? `last used ${shownTime(token.last_used_at)}` : "never used"} ·{" "}
                {token.expires_at ? `ends ${shownTime(token.expires_at)}` : "no end"}
              </span>
              <button
                type="button"
                className="ml-auto text-faint hover:text-ink"
                onClick={() => takeBack.mutate(token.id)}
              >
                take back
              </button>
            </li>
          ))}
        </ul>
      </main>
    </div>
  );
}
