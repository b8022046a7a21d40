import { useState } from "react";

/** Takes a further name. */
export function AddName({
  label,
  placeholder,
  onAdd,
}: {
  label: string;
  placeholder: string;
  onAdd: (name: string) => void;
}) {
  const [fresh, setFresh] = useState("");
  const add = () => {
    onAdd(fresh.trim());
    setFresh("");
  };
  return (
    <div className="flex gap-2">
      <input
        className="field w-40"
        aria-label={`New name in ${label}`}
        placeholder={placeholder}
        value={fresh}
        onChange={(e) => {
          setFresh(e.target.value);
        }}
        onKeyDown={(e) => {
          if (e.key === "Enter") {
            e.preventDefault();
            add();
          }
        }}
      />
      <button type="button" className="btn" disabled={!fresh.trim()} onClick={add}>
        Add
      </button>
    </div>
  );
}
