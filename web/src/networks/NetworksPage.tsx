import { useState } from "react";
import { Link, useNavigate } from "react-router";
import type { Network } from "../api/client";
import {
  useBeginWithExample,
  useCreateNetwork,
  useDeletedNetworks,
  useDeleteForGood,
  useDeleteNetwork,
  useNetworks,
  useSignOut,
  useTakeBack,
} from "../api/queries";
import { Empty, Failed, Waiting } from "../ui/states";
import { ageText, useTimes } from "../ui/times";
import { Wordmark } from "../ui/Wordmark";
import { counted } from "../ui/words";
import { ImportForm } from "./ImportForm";
import { listed, ORDERS, type Order } from "./order";

const FEW = 6;

export function NetworksPage() {
  const networks = useNetworks();
  const create = useCreateNetwork();
  const remove = useDeleteNetwork();
  const signOut = useSignOut();
  const navigate = useNavigate();
  const example = useBeginWithExample();
  const [order, setOrder] = useState<Order>("name");
  const [typed, setTyped] = useState("");
  const shownTime = useTimes();
  const shown = listed(networks.data ?? [], typed, order);

  return (
    <div className="h-full overflow-auto">
      <header className="flex items-baseline gap-5 px-6 pt-3 pb-2 border-b border-hair">
        <h1 className="text-xl">
          <Wordmark />
        </h1>
        <Link to="/tokens" className="ml-auto text-faint hover:text-ink">
          tokens for scripts
        </Link>
        <button type="button" className="text-faint hover:text-ink" onClick={() => signOut.mutate()}>
          sign out
        </button>
      </header>
      <main className="grid max-lg:grid-cols-[minmax(0,1fr)] lg:grid-cols-[minmax(0,1fr)_minmax(0,34rem)] gap-10 px-6 py-5 max-w-[90rem]">
        <section aria-labelledby="networks-title">
          <div className="flex items-baseline gap-4 mb-3">
            <h2 id="networks-title" className="text-lg">
              Networks
            </h2>
            {(networks.data?.length ?? 0) > FEW && (
              <input
                type="search"
                aria-label="search the networks"
                placeholder={`search ${networks.data?.length} networks`}
                value={typed}
                onChange={(event) => setTyped(event.target.value)}
                className="bg-transparent border-b border-faint px-1 flex-1"
              />
            )}
            {(networks.data?.length ?? 0) > 1 && (
              <label className="ml-auto text-faint">
                by{" "}
                <select
                  aria-label="order of the networks"
                  value={order}
                  onChange={(event) => setOrder(event.target.value as Order)}
                  className="bg-paper border-b border-hair"
                >
                  {ORDERS.map((one) => (
                    <option key={one}>{one}</option>
                  ))}
                </select>
              </label>
            )}
          </div>
          {networks.isPending && <Waiting what="your networks" />}
          {networks.isError && <Failed error={networks.error} what="Your networks cannot be listed." />}
          {networks.data?.length === 0 && (
            <Empty title="No network yet.">
              Import a network file, a folder as a zip archive, or a capture.
            </Empty>
          )}
          <ul>
            {shown.map((network) => (
              <li key={network.id} className="border-t border-hair py-2.5">
                <div className="flex items-baseline gap-4">
                  <Link
                    to={`/networks/${network.id}/flow`}
                    className="text-lg underline-offset-4 hover:underline truncate"
                  >
                    {network.name}
                  </Link>
                  <span className="text-faint whitespace-nowrap">
                    {counted(network.latest?.device_count ?? 0, "device")} · revision {network.latest?.number}
                  </span>
                  <ErrorCount network={network} />
                  {network.role === "owner" && (
                    <button
                      type="button"
                      aria-label={`delete ${network.name}`}
                      className="ml-auto text-faint hover:text-ink"
                      onClick={() => remove.mutate(network.id)}
                    >
                      delete
                    </button>
                  )}
                </div>
                <p className="text-sm text-faint">
                  {network.latest?.taken_at
                    ? `true at ${shownTime(network.latest.taken_at)}, ${ageText(network.latest.taken_at, new Date())}`
                    : "no time stated"}
                  {network.asked_at && ` · last asked ${ageText(network.asked_at, new Date())}`}
                </p>
              </li>
            ))}
          </ul>
          {shown.length === 0 && typed && <p className="text-faint">No network has “{typed}” in its name.</p>}
          <DeletedNetworks />
        </section>
        <section aria-labelledby="import-title">
          <h2 id="import-title" className="text-lg mb-3">
            Import a network
          </h2>
          <ImportForm
            withName
            pending={create.isPending}
            error={create.error}
            submit={(content) =>
              create.mutate(content, { onSuccess: (network) => navigate(`/networks/${network}/model`) })
            }
          />
          <p className="mt-6 text-faint">
            Or{" "}
            <button
              type="button"
              className="text-forward underline underline-offset-2"
              disabled={example.isPending}
              onClick={() =>
                example.mutate(undefined, {
                  onSuccess: (network) => navigate(`/networks/${network.id}/model`),
                })
              }
            >
              begin with the example
            </button>
            : a made-up ferry operator with faults worth finding.
            {example.isError && <span className="text-stop"> {example.error.message}</span>}
          </p>
        </section>
      </main>
    </div>
  );
}

/** What was found wrong in the newest revision, once somebody has looked. */
function ErrorCount({ network }: { network: Network }) {
  const errors = network.latest?.error_count ?? null;
  if (errors === null) return <span className="text-faint">not looked at yet</span>;
  if (errors === 0) return <span className="text-faint">no errors</span>;
  return (
    <Link to={`/networks/${network.id}/model/problems`} className="text-stop hover:underline">
      {counted(errors, "error")}
    </Link>
  );
}

/** Networks that were deleted lately, to be taken back or deleted for good. */
function DeletedNetworks() {
  const deleted = useDeletedNetworks();
  const takeBack = useTakeBack();
  const forGood = useDeleteForGood();
  const [sure, setSure] = useState<string | null>(null);
  const problem = takeBack.error ?? forGood.error;
  if (!deleted.data?.length) return null;
  return (
    <section className="mt-8" aria-labelledby="deleted-title">
      <h2 id="deleted-title" className="text-faint mb-1">
        Deleted
      </h2>
      <ul>
        {deleted.data.map((network) => (
          <li key={network.id} className="border-t border-hair py-1.5 flex items-baseline gap-4">
            <span>{network.name}</span>
            <span className="text-sm text-faint">
              deleted {ageText(network.deleted_at, new Date())}, gone in{" "}
              {counted(Math.max(1, daysUntil(network.gone_at)), "day")}
            </span>
            <button
              type="button"
              aria-label={`take back ${network.name}`}
              className="ml-auto underline underline-offset-2"
              onClick={() => takeBack.mutate(network.id)}
            >
              take back
            </button>
            <button
              type="button"
              className={sure === network.id ? "text-stop" : "text-faint hover:text-ink"}
              onBlur={() => setSure(null)}
              onClick={() => (sure === network.id ? forGood.mutate(network.id) : setSure(network.id))}
            >
              {sure === network.id ? "with all revisions, for good?" : "delete for good"}
            </button>
          </li>
        ))}
      </ul>
      {problem && (
        <p role="alert" className="text-stop">
          {problem.message}
        </p>
      )}
    </section>
  );
}

function daysUntil(time: string): number {
  return Math.ceil((new Date(time).getTime() - Date.now()) / 86_400_000);
}
