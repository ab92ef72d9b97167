import { type InstanceKey, useTipping } from "../api/answers";
import type { TippingPoint } from "../api/client";
import { useCurrentNetwork } from "../frame/context";
import { TryButton } from "../trials/TryButton";
import { Failed } from "../ui/states";
import { outcomeText } from "./words";

export function TippingPoints({ instance, prefix }: { instance: InstanceKey; prefix: string }) {
  const { revision } = useCurrentNetwork();
  const tipping = useTipping(revision, instance, prefix, true);
  return (
    <>
      <h3 className="font-semibold">tipping points</h3>
      {tipping.isPending && <p className="text-faint italic">trying values …</p>}
      {tipping.isError && <Failed error={tipping.error} what="The values cannot be tried." />}
      {tipping.data?.length === 0 && (
        <p className="text-faint">No single cost, metric or preference would change this route.</p>
      )}
      <ol data-testid="tipping">
        {tipping.data?.map((point) => (
          <TippingLine key={`${point.message}`} point={point} />
        ))}
      </ol>
    </>
  );
}

function TippingLine({ point }: { point: TippingPoint }) {
  return (
    <li className="border-t border-hair py-1 text-[14px]">
      <p>
        {point.what} on <span className="mono">{point.device}</span>, now {point.now}: moves at{" "}
        <span className="font-semibold">{point.value}</span> and {point.direction}{" "}
        {point.change && <TryButton changes={[point.change]} label={`try ${point.value}`} />}
      </p>
      <p className="text-faint">
        then {outcomeText(point.becomes)}
        {point.beyond && <>; further on {outcomeText(point.beyond)}</>}
      </p>
    </li>
  );
}
