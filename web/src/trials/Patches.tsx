import { type RevisionKey, usePatches } from "../api/answers";
import { download } from "../ui/download";
import { Failed, Waiting } from "../ui/states";

const FORMS = [
  { what: "YANG patch", key: "yang_patch", end: "patch.json", type: "application/yang-data+json" },
  { what: "edit-config", key: "edit_config", end: "edit-config.xml", type: "application/xml" },
] as const;

/** What a trial changes on each device, as devices take it, each with what takes it back. */
export function Patches({ revision }: { revision: RevisionKey }) {
  const found = usePatches(revision);
  if (found.isPending) return <Waiting what="what devices take" />;
  if (found.isError) return <Failed error={found.error} what="What devices take cannot be shown." />;
  if (found.data.length === 0) return <p className="text-faint mt-1">No device is changed.</p>;
  return (
    <ul className="mt-1" data-testid="patches">
      {found.data.map((one) => (
        <li key={one.device} className="border-t border-hair py-1">
          <span className="mono">{one.device}</span>
          {one.note && <span className="text-stop"> {one.note}</span>}
          {one.yang_patch && (
            <>
              <p className="flex flex-wrap gap-x-3">
                {FORMS.map(({ what, key, end, type }) => (
                  <span key={key}>
                    {what}{" "}
                    <Save onClick={() => download(`${one.device}.${end}`, one[key], type)} what="save it" />{" "}
                    <Save
                      onClick={() => download(`${one.device}.back.${end}`, one[`${key}_back`], type)}
                      what="the way back"
                    />
                  </span>
                ))}
              </p>
              <pre className="mono text-[12px] overflow-auto max-h-60 mt-1 border border-hair p-1">
                {one.edit_config}
              </pre>
            </>
          )}
        </li>
      ))}
    </ul>
  );
}

function Save({ what, onClick }: { what: string; onClick: () => void }) {
  return (
    <button
      type="button"
      className="underline underline-offset-2 hover:no-underline text-faint"
      onClick={onClick}
    >
      {what}
    </button>
  );
}
