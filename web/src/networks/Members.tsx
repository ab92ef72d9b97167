import { type FormEvent, useState } from "react";
import { useNavigate } from "react-router";
import { type Role, useMembers, useRemoveMember, useSession, useSetRole } from "../api/queries";

const ROLES: Role[] = ["reader", "editor", "owner"];

/** Who may do what with the network; an owner may change it. */
export function Members({ networkId, mayChange }: { networkId: string; mayChange: boolean }) {
  const members = useMembers(networkId);
  const setRole = useSetRole(networkId);
  const remove = useRemoveMember(networkId);
  const session = useSession();
  const navigate = useNavigate();
  const [name, setName] = useState("");
  const [sure, setSure] = useState(false);
  const problem = setRole.error ?? remove.error;

  function add(event: FormEvent) {
    event.preventDefault();
    setRole.mutate({ username: name.trim(), role: "reader" }, { onSuccess: () => setName("") });
  }

  return (
    <section aria-labelledby="members-title" className="mt-8">
      <h2 id="members-title" className="text-lg mb-3">
        Members
      </h2>
      <ul>
        {members.data?.map((member) => (
          <li key={member.username} className="border-t border-hair py-1.5 flex items-baseline gap-4">
            <span className="mono">{member.username}</span>
            {mayChange ? (
              <>
                <select
                  aria-label={`role of ${member.username}`}
                  value={member.role}
                  onChange={(event) =>
                    setRole.mutate({ username: member.username, role: event.target.value as Role })
                  }
                  className="bg-paper border-b border-hair"
                >
                  {ROLES.map((role) => (
                    <option key={role}>{role}</option>
                  ))}
                </select>
                <button
                  type="button"
                  className="ml-auto text-faint hover:text-ink"
                  onClick={() => remove.mutate(member.username)}
                >
                  take out
                </button>
              </>
            ) : (
              <span className="text-faint">{member.role}</span>
            )}
            {!mayChange && member.username === session.data?.username && (
              <button
                type="button"
                className={`ml-auto ${sure ? "text-stop" : "text-faint hover:text-ink"}`}
                onBlur={() => setSure(false)}
                onClick={() =>
                  sure ? remove.mutate(member.username, { onSuccess: () => navigate("/") }) : setSure(true)
                }
              >
                {sure ? "leave this network?" : "leave"}
              </button>
            )}
          </li>
        ))}
      </ul>
      {mayChange && (
        <form onSubmit={add} className="flex gap-3 border-t border-hair pt-2">
          <input
            aria-label="name of a user"
            placeholder="name of a user"
            value={name}
            onChange={(event) => setName(event.target.value)}
            className="flex-1 border-b border-hair bg-transparent py-1"
          />
          <button
            type="submit"
            disabled={!name.trim()}
            className="border border-ink px-4 py-1 hover:bg-wash disabled:opacity-50 disabled:cursor-default"
          >
            add as reader
          </button>
        </form>
      )}
      {problem && (
        <p role="alert" className="text-stop mt-2">
          {problem.message}
        </p>
      )}
    </section>
  );
}
