import { Link } from "@tanstack/react-router";
import { when } from "../ui/words";
import { useHistory } from "../api/runs";

/** The runs through which the same item went before and after, where its workflow says by what it is known. */
export function OtherRuns({ run, address }: { run: string; address: string }) {
  const found = useHistory(run, address);
  const list = found.data?.runs ?? [];
  if (list.length === 0) return null;
  return (
    <div className="mt-3 border-t border-rule pt-2.5">
      <h2 className="mb-1 text-xs font-semibold text-second">Its other runs</h2>
      <ul className="space-y-0.5">
        {list.map((r) => (
          <li key={`${r.run} ${r.address}`}>
            <Link
              className="hover:underline"
              to="/runs/$run"
              params={{ run: r.run }}
              search={{ item: r.address }}
            >
              {when(r.accepted)}
            </Link>{" "}
            <span className="text-second">
              {r.title}, {r.state}
            </span>
          </li>
        ))}
      </ul>
    </div>
  );
}
