import { useId } from "react";

/** CSV that is pasted, or read from a file. */
export function CSVField({
  label,
  hint,
  text,
  onText,
}: {
  label: string;
  hint: string;
  text: string;
  onText: (text: string) => void;
}) {
  const id = useId();
  return (
    <div>
      <div className="flex items-baseline justify-between">
        <label className="label" htmlFor={id}>
          {label}
        </label>
        <label className="cursor-pointer text-xs text-third hover:text-ink hover:underline">
          from a file
          <input
            type="file"
            accept=".csv,.tsv,.txt,text/csv"
            className="sr-only"
            aria-label={`${label}, from a file`}
            onChange={(e) => {
              const file = e.target.files?.[0];
              e.target.value = "";
              if (file) void file.text().then(onText);
            }}
          />
        </label>
      </div>
      <textarea
        id={id}
        className="field h-40 py-1.5 font-mono text-xs"
        placeholder={"short,name,phone\nwren,Wren Castleton,+441632960107"}
        spellCheck={false}
        value={text}
        onChange={(e) => {
          onText(e.target.value);
        }}
      />
      <div className="hint mt-1">{hint}</div>
    </div>
  );
}
