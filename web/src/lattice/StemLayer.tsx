import type { Shown } from "./columns";
import { shapes } from "./marks";
import { DOWN, HEIGHT, MARK, type Path, type Spot } from "./stems";

interface Props {
  paths: Path[];
  spots: Spot[];
  shown: Shown[];
  width: number;
  height: number;
}

/** Stems and marks, drawn beneath the texts; those of the frozen column stay with it. */
export function Stems({ paths, spots, shown, width, height }: Props) {
  const frozen = (shown[0]?.left ?? 0) + (shown[0]?.width ?? 0);
  return (
    <>
      <svg aria-hidden className="pointer-events-none absolute top-0 left-0" width={width} height={height}>
        <Drawn paths={paths} spots={spots} shown={shown} />
      </svg>
      <div aria-hidden className="pointer-events-none sticky left-0 z-[3] h-0" style={{ width: frozen }}>
        <svg className="absolute top-0 left-0" width={frozen} height={height}>
          <Drawn paths={paths} spots={spots.filter((s) => s.column === 0)} shown={shown} />
        </svg>
      </div>
    </>
  );
}

function Drawn({ paths, spots, shown }: Pick<Props, "paths" | "spots" | "shown">) {
  return (
    <>
      <g fill="none" strokeWidth="2">
        {paths.map((p, i) =>
          p.many ? (
            [-3, 0, 3].map((dy) => (
              <path
                key={`${String(i)}${String(dy)}`}
                className="stem"
                d={p.d}
                stroke="var(--leaf)"
                strokeWidth="1.2"
                opacity=".75"
                transform={`translate(0 ${String(dy)})`}
              />
            ))
          ) : (
            <path key={i} className="stem" d={p.d} stroke={`var(--${p.tone})`} />
          ),
        )}
      </g>
      {spots.map((s) => (
        <g
          key={`${String(s.line)}-${String(s.column)}`}
          transform={`translate(${String((shown[s.column]?.left ?? 0) + MARK)} ${String(s.line * HEIGHT + DOWN)})`}
        >
          {shapes[s.fate]}
          {s.reused && <path d="M-3.5-10l2 2 4-4.5" fill="none" stroke="var(--third)" strokeWidth="1.3" />}
        </g>
      ))}
    </>
  );
}
