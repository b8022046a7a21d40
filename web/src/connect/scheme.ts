const HOST =
  /^(?<host>\[[0-9a-f:.]+\]|localhost|[a-z0-9](?:[a-z0-9_-]*[a-z0-9])?(?:\.[a-z0-9](?:[a-z0-9_-]*[a-z0-9])?)+)(?<port>:\d{1,5})?(?:\/\S*)?$/i;
const NEAR =
  /^(localhost|127\.|10\.|192\.168\.|172\.(1[6-9]|2\d|3[01])\.|\[(::1|f[cd]))|\.(internal|local|lan)$/i;

/** The address that was likely meant where one was typed without its scheme: encrypted, unless it is near. */
export function likely(typed: string): string | undefined {
  const text = typed.trim().replace(/^\/\//, "");
  const found = HOST.exec(text)?.groups;
  if (!found) return undefined;
  return `${NEAR.test(found["host"] ?? "") ? "http" : "https"}://${text}`;
}
