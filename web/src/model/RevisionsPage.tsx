import { Link, useNavigate } from "react-router";
import { useAddRevision, useRevisions } from "../api/queries";
import { useCurrentNetwork } from "../frame/context";
import { ImportForm } from "../networks/ImportForm";
import { Members } from "../networks/Members";
import { Failed, Waiting } from "../ui/states";
import { useTimes } from "../ui/times";
import { Collected } from "./Collected";

export function RevisionsPage() {
  const { network, revision } = useCurrentNetwork();
  const revisions = useRevisions(network.id);
  const shownTime = useTimes();
  const add = useAddRevision(network.id);
  const navigate = useNavigate();
  const earlier = (number: number) => revisions.data?.find((one) => one.number < number)?.number;
  const mayEdit = network.role !== "reader";
  return (
    <div className="h-full overflow-auto grid max-lg:grid-cols-[minmax(0,1fr)] lg:grid-cols-[minmax(0,1fr)_minmax(0,34rem)] gap-10 px-6 py-5">
      <section aria-labelledby="revisions-title">
        <h2 id="revisions-title" className="text-lg mb-3">
          Revisions of {network.name}
        </h2>
        {revisions.isPending && <Waiting what="the revisions" />}
        {revisions.isError && <Failed error={revisions.error} what="The revisions cannot be listed." />}
        <ol>
          {revisions.data?.map((one) => (
            <li key={one.number} className="border-t border-hair py-2">
              <div className="flex items-baseline gap-4">
                <Link
                  to={`/networks/${network.id}/flow?revision=${one.number}`}
                  className={`underline-offset-4 hover:underline ${one.number === revision.number ? "font-semibold" : ""}`}
                >
                  revision {one.number}
                </Link>
                <span>
                  {one.device_count} devices{one.is_capture ? ", captured" : ""}
                </span>
                <span className="text-faint">
                  {one.taken_at ? `true at ${shownTime(one.taken_at)}` : "no time stated"}
                </span>
                {earlier(one.number) !== undefined && (
                  <Link
                    className="ml-auto underline underline-offset-2"
                    to={`/networks/${network.id}/model/changes?revision=${one.number}&since=${earlier(one.number)}`}
                  >
                    what changed
                  </Link>
                )}
                <a
                  className={`underline underline-offset-2 ${earlier(one.number) === undefined ? "ml-auto" : ""}`}
                  href={`/api/networks/${network.id}/revisions/${one.number}/download`}
                  download
                >
                  download
                </a>
                {!one.is_capture && (
                  <a
                    className="underline underline-offset-2"
                    href={`/api/networks/${network.id}/revisions/${one.number}/models?as=zip`}
                    title="a document for each device in the IETF's models"
                    download
                  >
                    as models
                  </a>
                )}
              </div>
              <div className="text-faint text-sm">
                {shownTime(one.created_at)} by{" "}
                {one.created_by ?? (one.note.startsWith("collected by ") ? "a worker" : "a former user")} ·{" "}
                {one.file_name}, {one.size.toLocaleString()} bytes{one.note ? ` · ${one.note}` : ""}
              </div>
            </li>
          ))}
        </ol>
      </section>
      <div>
        <Collected networkId={network.id} mayEdit={mayEdit} />
        {mayEdit && (
          <section aria-labelledby="add-title">
            <h2 id="add-title" className="text-lg mb-3">
              Add a revision
            </h2>
            <ImportForm
              pending={add.isPending}
              error={add.error}
              // The page is drawn anew for the revision meanwhile: a callback of its own would be forgotten with it.
              submit={(content) =>
                add.mutateAsync(content).then(
                  () => navigate(`/networks/${network.id}/model`),
                  () => undefined,
                )
              }
            />
          </section>
        )}
        <Members networkId={network.id} mayChange={network.role === "owner"} />
      </div>
    </div>
  );
}
