import { useState } from "react";
import { asFields } from "../../api/client";
import { keepFile } from "../../api/files";
import type { ControlProps } from "./props";

/** A file of this machine, kept by the service. */
export function FileControl({ id, value, onSet }: ControlProps) {
  const [said, setSaid] = useState("");
  const file = asFields(value);
  const keep = async (f: File) => {
    setSaid(`Keeping ${f.name}…`);
    try {
      onSet(await keepFile(f));
      setSaid("");
    } catch {
      setSaid("The file was not taken.");
    }
  };
  return (
    <>
      <input
        id={id}
        type="file"
        className="block w-full text-second"
        onChange={(e) => {
          const f = e.target.files?.[0];
          if (f) void keep(f);
        }}
      />
      <div className="hint mt-1" role="status">
        {said ||
          (file["name"] ? `${String(file["name"])}, ${Number(file["size"]).toLocaleString("en")} bytes` : "")}
      </div>
    </>
  );
}
