import { useState } from "react";
import { type Fields, type Rehearsal } from "../api/client";
import { isGroup, triggerOf } from "../lattice/address";
import { FieldList } from "../lattice/FieldList";
import { Legend } from "../lattice/Legend";
import { SampleLattice, type Place } from "../lattice/SampleLattice";
import { CellBeside } from "./CellBeside";
import { Requests } from "./Requests";
import { plural } from "../ui/words";

interface Props {
  seen: Rehearsal;
  followed: boolean; // computed anew from what was read before
  spot: Place | undefined;
  onSpot: (s: Place) => void;
  chosen: string | undefined;
  use: (path: string) => void;
  before: Fields | undefined;
  at: Place;
  again: () => void; // rehearses once more
}

/** The rows of the samples, and beneath them the chosen cell. */
export function Sheet({ seen, followed, spot, onSpot, chosen, use, before, at, again }: Props) {
  const alone =
    seen.columns[0]?.lists &&
    new Set(seen.rows.flatMap((r) => (isGroup(r.address) ? [] : [triggerOf(r.address)]))).size <= 1;
  const row = seen.rows[at.row];
  const cell = row?.cells[at.column];
  return (
    <>
      <div className="flex min-h-[160px] flex-1 flex-col">
        <SampleLattice
          columns={seen.columns}
          rows={seen.rows}
          start={alone ? undefined : "Sample"}
          spot={spot}
          onSpot={onSpot}
          chosen={chosen}
        />
      </div>
      <div className="py-2">
        <Legend
          fates={[...new Set(seen.rows.flatMap((r) => r.cells.map((c) => c.fate)))]}
          simulated={seen.rows.some((r) => r.cells.some((c) => c.simulated))}
        />
      </div>
      <div className="card max-h-[38%] min-h-[150px] shrink-0 overflow-auto p-3.5">
        <div className="mb-2 flex gap-6">
          <div className="min-w-0 flex-1">
            <h2 className="mb-1.5 text-xs font-semibold text-second">
              {row
                ? `Row ${String(at.row + 1)} as it comes to line ${seen.columns[at.column]?.line ?? ""}`
                : "No row"}
              <span className="font-normal text-third"> · choose a field to use it</span>
            </h2>
            {before && <FieldList fields={before} onUse={use} />}
          </div>
          {cell && <CellBeside cell={cell} before={before} again={again} />}
        </div>
        <WhatWasDone seen={seen} followed={followed} />
      </div>
    </>
  );
}

/** That nothing was sent, and what would have been. */
function WhatWasDone({ seen, followed }: { seen: Rehearsal; followed: boolean }) {
  const [requests, setRequests] = useState(false);
  const reads = seen.columns.filter((c) => c.kind === "read").reduce((n, c) => n + c.calls, 0);
  return (
    <>
      <div>
        <b>Nothing was sent.</b>{" "}
        <span className="text-second">
          {followed ? "Nothing was read anew" : plural(reads, "real read")}; {plural(seen.prepared, "write")}{" "}
          only prepared.
        </span>{" "}
        {seen.prepared > 0 && (
          <button
            className="text-second underline"
            onClick={() => {
              setRequests(!requests);
            }}
          >
            {requests ? "Hide them" : "Show them"}
          </button>
        )}
      </div>
      {seen.message && <div className="mt-1 text-rust">{seen.message}</div>}
      {requests && <Requests seen={seen} />}
    </>
  );
}
