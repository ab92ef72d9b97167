import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { useCreateNetwork, useDeleteNetwork, useNetworks, useSignOut } from "../api/queries";
import { shownTime } from "../frame/context";
import { Empty, Failed, Waiting } from "../ui/states";
import { Wordmark } from "../ui/Wordmark";
import { ImportForm } from "./ImportForm";

export function NetworksPage() {
  const networks = useNetworks();
  const create = useCreateNetwork();
  const remove = useDeleteNetwork();
  const signOut = useSignOut();
  const navigate = useNavigate();
  const [sure, setSure] = useState<string | null>(null);

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
      <main className="grid grid-cols-[minmax(0,1fr)_minmax(0,34rem)] gap-10 px-6 py-5 max-w-[90rem]">
        <section aria-labelledby="networks-title">
          <h2 id="networks-title" className="text-lg mb-3">
            Networks
          </h2>
          {networks.isPending && <Waiting what="your networks" />}
          {networks.isError && <Failed error={networks.error} what="Your networks cannot be listed." />}
          {networks.data?.length === 0 && (
            <Empty title="No network yet.">
              Import a network file, a folder as a zip archive, or a capture.
            </Empty>
          )}
          <ul>
            {networks.data?.map((network) => (
              <li key={network.id} className="border-t border-hair py-2.5 flex items-baseline gap-4">
                <Link
                  to={`/networks/${network.id}/flow`}
                  className="text-lg underline-offset-4 hover:underline"
                >
                  {network.name}
                </Link>
                <span className="text-faint">
                  {network.latest?.device_count} devices · revision {network.latest?.number}
                  {network.latest?.taken_at
                    ? ` · true at ${shownTime(network.latest.taken_at)}`
                    : " · no time stated"}
                </span>
                {network.role === "owner" && (
                  <button
                    type="button"
                    className={`ml-auto ${sure === network.id ? "text-stop" : "text-faint hover:text-ink"}`}
                    onBlur={() => setSure(null)}
                    onClick={() => (sure === network.id ? remove.mutate(network.id) : setSure(network.id))}
                  >
                    {sure === network.id ? "delete with all revisions?" : "delete"}
                  </button>
                )}
              </li>
            ))}
          </ul>
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
              create.mutate(content, { onSuccess: (network) => navigate(`/networks/${network.id}/flow`) })
            }
          />
        </section>
      </main>
    </div>
  );
}
