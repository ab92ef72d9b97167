import { Link, useSearchParams } from "react-router";
import { asItIs, useExpectations } from "../api/answers";
import { stateOf, useCurrentNetwork } from "../frame/context";
import { counted } from "../ui/words";

/** Which of what is expected holds no longer with a trial, and which newly does, no failure of anything else asked. */
export function TrialExpected() {
  const { network, revision } = useCurrentNetwork();
  const [search] = useSearchParams();
  const before = useExpectations(asItIs(revision)).data;
  const after = useExpectations(revision).data;
  if (!before || !after || before.expectations.length === 0) return null;
  const held = new Map(before.expectations.map((one) => [one.name, one.state === "holds"]));
  const broken = after.expectations.filter((one) => one.state !== "holds" && held.get(one.name));
  const mended = after.expectations.filter((one) => one.state === "holds" && held.get(one.name) === false);
  const names = (some: typeof broken) => some.map((one) => one.name).join(", ");
  return (
    <div className="mt-1" data-testid="trial-expected">
      <h3 className="font-semibold">
        <Link
          className="underline underline-offset-2"
          to={`/networks/${network.id}/expect?${new URLSearchParams(stateOf(search))}`}
        >
          What is expected
        </Link>
      </h3>
      {broken.length > 0 && (
        <p className="text-stop">
          {counted(broken.length, "expectation")} no longer hold{broken.length === 1 ? "s" : ""}:{" "}
          {names(broken)}
        </p>
      )}
      {mended.length > 0 && (
        <p className="text-good">
          {counted(mended.length, "expectation")} newly hold{mended.length === 1 ? "s" : ""}: {names(mended)}
        </p>
      )}
      {broken.length + mended.length === 0 && (
        <p>
          {after.words}
          {after.words === before.words && ", as before"}
        </p>
      )}
    </div>
  );
}
