import { useState } from "react";
import type { Schemas } from "../../api/client";
import { useProfile } from "../../api/samples";

/** So many different values are told apart by the service. */
const most = 50;

/** Every field of the samples: how often it is filled in, its types, different values, and their spread. */
export function Profile({ workflow, samples }: { workflow: string; samples: Schemas["Sample"][] }) {
  const [open, setOpen] = useState(false);
  const profile = useProfile(workflow, open, samples);
  return (
    <div className="mt-2">
      <button
        type="button"
        className="text-second hover:text-ink hover:underline"
        aria-expanded={open}
        onClick={() => {
          setOpen(!open);
        }}
      >
        {open ? "Hide the profile" : "Profile of the fields"}
      </button>
      {open && profile.data && (
        <div
          role="group"
          aria-label="Profile of the fields"
          tabIndex={0} // what scrolls is reached by keys
          className="mt-1.5 max-h-72 overflow-auto rounded-lg border border-rule bg-sheet"
        >
          <table className="w-full text-xs">
            <thead className="sticky top-0 bg-sheet">
              <tr className="border-b border-rule text-left text-second">
                <th className="px-2 py-1 font-medium">Field</th>
                <th className="px-2 font-medium">Type</th>
                <th className="px-2 text-right font-medium">Filled in</th>
                <th className="px-2 text-right font-medium">Values</th>
                <th className="px-2 font-medium">Spread</th>
              </tr>
            </thead>
            <tbody>
              {profile.data.fields.map((f) => (
                <tr
                  key={f.path}
                  className="border-b border-rule last:border-0"
                  title={f.examples.join(" · ")}
                >
                  <td className="px-2 py-1 font-mono">{f.path}</td>
                  <td className="px-2 text-second">{f.types.join(" or ") || "never filled in"}</td>
                  <td
                    className={`px-2 text-right whitespace-nowrap tabular-nums ${f.filled < f.of ? "text-amber" : ""}`}
                  >
                    {f.filled} of {f.of}
                  </td>
                  <td className="px-2 text-right tabular-nums">
                    {f.distinct > most ? `over ${String(most)}` : f.distinct}
                  </td>
                  <td className="px-2 text-second">{f.spread}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
    </div>
  );
}
