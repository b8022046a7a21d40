import type { Json } from "./client";

/** Keeps a file of this machine; gives what stands for it in a value. */
export async function keepFile(f: File): Promise<Json> {
  const query = new URLSearchParams({ name: f.name, type: f.type || "application/octet-stream" });
  const res = await fetch(`/api/v1/files?${query.toString()}`, {
    method: "POST",
    headers: { "Content-Type": "application/octet-stream" },
    body: f,
  });
  if (!res.ok) throw new Error("the file was not taken");
  return (await res.json()) as Json;
}
