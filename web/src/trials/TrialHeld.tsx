import { useHeld } from "../api/answers";
import { useCurrentNetwork } from "../frame/context";
import { AllTraffic } from "../held/AllTraffic";

/** What of all traffic a trial changes. */
export function TrialHeld() {
  const { revision } = useCurrentNetwork();
  return <AllTraffic held={useHeld(revision)} />;
}
