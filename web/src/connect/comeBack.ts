const key = "after consent";

/** Remembers the page from which somebody goes to a consent page, so that they come back to it. */
export function goingAway(connection: string): void {
  try {
    sessionStorage.setItem(key, JSON.stringify({ connection, to: location.pathname + location.search }));
  } catch {
    // Nothing is kept here; one comes back to the connection.
  }
}

/** Where to go on once a connection works for which consent was given; undefined for its own page. */
export function cameBack(connection: string): string | undefined {
  try {
    const text = sessionStorage.getItem(key);
    const left = text === null ? undefined : (JSON.parse(text) as { connection: string; to: string });
    if (left?.connection !== connection) return undefined;
    sessionStorage.removeItem(key);
    if (left.to.startsWith("/connections")) return undefined;
    return left.to.includes("line=") ? `${left.to}&use=${encodeURIComponent(connection)}` : left.to;
  } catch {
    return undefined;
  }
}
