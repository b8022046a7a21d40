/** How far one has come: each stage is done or not, by the facts. */
export function Stages({
  list,
  small = false,
}: {
  list: { words: string; done: boolean }[];
  small?: boolean;
}) {
  const next = list.findIndex((s) => !s.done);
  return (
    <ol className={`flex flex-wrap gap-x-5 gap-y-1 ${small ? "text-xs" : "mb-5"}`} aria-label="How far it is">
      {list.map(({ words, done }, i) => (
        <li
          key={words}
          className={done ? "text-leafink" : i === next ? "font-medium text-ink" : "text-third"}
          {...(i === next ? { "aria-current": "step" as const } : {})}
        >
          <span aria-hidden>{done ? "●" : "○"}</span> {words}
          {done && <span className="sr-only">, done</span>}
        </li>
      ))}
    </ol>
  );
}
