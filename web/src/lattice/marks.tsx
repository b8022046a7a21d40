import type { Fate } from "../api/client";

/** The mark of a fate, 14 by 14, centred. No fate is told by colour alone. */
export function Mark({ fate }: { fate: Fate }) {
  return (
    <svg width="14" height="14" viewBox="-7 -7 14 14" aria-hidden className="block overflow-visible">
      {shapes[fate]}
    </svg>
  );
}

const leaf = { fill: "var(--leaf)" };
const hollow = { fill: "var(--sheet)", stroke: "var(--leaf)", strokeWidth: 2 };

export const shapes: Record<Fate, React.ReactNode> = {
  passed: <circle r="3.2" {...leaf} />,
  read: <circle r="4.6" {...hollow} />,
  written: <rect x="-4.6" y="-4.6" width="9.2" height="9.2" rx="1.6" {...leaf} />,
  prepared: <rect x="-4.2" y="-4.2" width="8.4" height="8.4" rx="1.2" {...hollow} />,
  joined: (
    <path
      d="M-5.6 -1.2H-1q4 0 4 4V6"
      fill="none"
      stroke="var(--leaf)"
      strokeWidth="2.2"
      strokeLinecap="round"
    />
  ),
  held_back: <rect x="-1.2" y="-6" width="2.4" height="12" rx="1" fill="var(--second)" />,
  gave_nothing: (
    <rect
      x="-2.4"
      y="-6"
      width="4.8"
      height="12"
      rx="1.4"
      fill="var(--sheet)"
      stroke="var(--second)"
      strokeWidth="1.6"
    />
  ),
  set_aside: <path d="M0-5.6 5.8 4.6H-5.8z" fill="var(--rust)" />,
  stopped: (
    <path
      d="M-4.4-4.4 4.4 4.4M4.4-4.4-4.4 4.4"
      stroke="var(--rust)"
      strokeWidth="2.6"
      strokeLinecap="round"
    />
  ),
  may_have_been_sent: (
    <g>
      <circle r="5.6" fill="var(--sheet)" stroke="var(--amber)" strokeWidth="1.6" />
      <text y="3.4" textAnchor="middle" fontSize="9" fontWeight="700" fill="var(--amber)">
        ?
      </text>
    </g>
  ),
  went_on: (
    <g>
      <circle r="4.4" fill="var(--sheet)" stroke="var(--amber)" strokeWidth="1.6" />
      <path d="M0-4.4A4.4 4.4 0 0 1 0 4.4z" fill="var(--amber)" />
    </g>
  ),
  fell_back: (
    <path
      d="M-5-5v3.2Q-5 1.6-1.6 1.6H4M1-1.8 4.6 1.6 1 5"
      fill="none"
      stroke="var(--amber)"
      strokeWidth="2"
      strokeLinecap="round"
      strokeLinejoin="round"
    />
  ),
  ended_run: (
    <path d="M0-6V3.4M-5.2 4.4H5.2" stroke="var(--second)" strokeWidth="2.4" strokeLinecap="round" />
  ),
  waiting: (
    <circle r="4.6" fill="var(--sheet)" stroke="var(--amber)" strokeWidth="2" strokeDasharray="3 2.2" />
  ),
  off: null,
  not_reached: null,
};
