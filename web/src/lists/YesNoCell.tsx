/** A cell that holds yes, no, or nothing. */
export function YesNoCell({
  label,
  text,
  onSet,
}: {
  label: string;
  text: string;
  onSet: (text: string) => void;
}) {
  return (
    <select
      aria-label={label}
      className="h-8 w-full cursor-pointer appearance-none bg-transparent px-2 hover:bg-tint/60"
      value={text}
      onChange={(e) => {
        onSet(e.target.value);
      }}
    >
      <option value=""></option>
      <option value="yes">yes</option>
      <option value="no">no</option>
    </select>
  );
}
