/** What is wrong with what was typed, once the control was left. */
export function Wrong({ id, text }: { id: string; text: string | undefined }) {
  if (text === undefined) return null;
  return (
    <div id={`${id}-wrong`} role="alert" className="mt-1 text-rust">
      {text}
    </div>
  );
}
