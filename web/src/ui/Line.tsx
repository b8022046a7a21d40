/** A line to type into, beneath its label. */
export function Line({
  id,
  label,
  text,
  onText,
  placeholder,
  wished = false,
  mono = false,
}: {
  id: string;
  label: string;
  text: string;
  onText: (text: string) => void;
  placeholder?: string;
  wished?: boolean;
  mono?: boolean;
}) {
  return (
    <div>
      <label className="label" htmlFor={id}>
        {label}
        {wished && <span className="font-normal text-third"> if wished</span>}
      </label>
      <input
        id={id}
        className={mono ? "field font-mono text-xs" : "field"}
        placeholder={placeholder}
        value={text}
        onChange={(e) => {
          onText(e.target.value);
        }}
      />
    </div>
  );
}
