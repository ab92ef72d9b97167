import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { useCreateNetwork, useDeleteNetwork, useNetworks, useSignOut } from "../api/queries";
import { Empty, Failed, Waiting } from "../ui/states";
import { ageText, useTimes } from "../ui/times";
import { Wordmark } from "../ui/Wordmark";
import { ImportForm } from "./ImportForm";

const FEW = 6;

export function NetworksPage() {
  const networks = useNetworks();
  const create = useCreateNetwork();
  const remove = useDeleteNetwork();
  const signOut = useSignOut();
  const navigate = useNavigate();
  const [sure, setSure] = useState<string | null>(null);
  const [typed, setTyped] = useState("");
  const shownTime = useTimes();
  const shown = networks.data?.filter((one) => one.name.toLowerCase().includes(typed.trim().toLowerCase()));

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
          </div>
          {networks.isPending && <Waiting what="your networks" />}
          {networks.isError && <Failed error={networks.error} what="Your networks cannot be listed." />}
          {networks.data?.length === 0 && (
            <Empty title="No network yet.">
              Import a network file, a folder as a zip archive, or a capture.
            </Empty>
          )}
          <ul>
            {shown?.map((network) => (
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
                    ? ` · true at ${shownTime(network.latest.taken_at)}, ${ageText(network.latest.taken_at, new Date())}`
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
          {shown?.length === 0 && typed && (
            <p className="text-faint">No network has “{typed}” in its name.</p>
          )}
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
              create.mutate(content, { onSuccess: (network) => navigate(`/networks/${network.id}/model`) })
            }
          />
        </section>
      </main>
    </div>
  );
}
