import { Link, useSearchParams } from "react-router";
import { useFindings, useMap, useServices, useWords } from "../api/answers";
import { useCurrentNetwork } from "../frame/context";
import { Key } from "../ui/Key";
import { AskedList } from "./AskedBefore";
import { withQuestion } from "./sentence";

/** Before anything is asked: how to ask, and a few questions this network suggests. */
export function Suggestions() {
  const { revision, network } = useCurrentNetwork();
  const [search] = useSearchParams();
  const map = useMap(revision);
  const words = useWords(revision, "", true);
  const services = useServices(revision);
  const findings = useFindings(revision);
  const hosts = (map.data?.devices ?? [])
    .filter((device) => device.kind === "host")
    .map((device) => device.name);
  const endpoints = (words.data ?? []).filter((word) => word.kind === "endpoint").map((word) => word.word);
  const targets = endpoints.length > 0 ? endpoints : hosts.slice(1);
  const named = (services.data ?? []).map((service) => service.word);
  // All or none: a link must not change under the pointer while the rest arrives.
  const ready = map.data && words.data && services.data;
  const questions = (ready ? [0, 1, 2, 3] : []).flatMap((index) => {
    const from = hosts[Math.floor(((3.5 - index) * hosts.length) / 4)];
    const to = targets[index];
    return from && to && from !== to ? [{ from, to, service: named[index] ?? "icmp", enter: "" }] : [];
  });
  return (
    <div className="p-6 h-full overflow-auto">
      <p className="text-lg">Does it get through, by which way, and if not, what stops it?</p>
      <p className="text-faint mt-2 max-w-prose">
        Fill the sentence above: <Key>f</Key> from, <Key>t</Key> to, <Key>o</Key> the service, <Key>a</Key>{" "}
        the revision. Or type it as one line with <Key>/</Key>. A place is a device, an interface, any
        address, or an endpoint’s name.
      </p>
      {questions.length > 0 && (
        <>
          <p className="mt-5 mb-1">For example</p>
          <ul>
            {questions.map((question) => (
              <li key={`${question.from}${question.to}`}>
                <Link
                  className="mono text-forward underline underline-offset-2 inline-block leading-7"
                  to={`/networks/${network.id}/flow?${withQuestion(search, question)}`}
                >
                  {question.from} &gt; {question.to} {question.service}
                </Link>
              </li>
            ))}
          </ul>
        </>
      )}
      <AskedList />
      {findings.data && findings.data.length > 0 && (
        <p className="mt-5">
          <Link className="underline underline-offset-2" to={`/networks/${network.id}/model/problems`}>
            {findings.data.length} problems
          </Link>{" "}
          <span className="text-faint">were found in the model itself.</span>
        </p>
      )}
    </div>
  );
}
