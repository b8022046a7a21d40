/** New names of lines, for what still says the old ones: an edit that was typed while the line was renamed, a form that stays open. */
export class Renames {
  private to = new Map<string, string>();
  private from = new Map<string, string>();

  /** A line is called so from now on; cases as STEP/CASE. */
  did(old: string, name: string) {
    if (old === name) return;
    const first = this.from.get(old) ?? old;
    this.from.delete(old);
    this.from.set(name, first);
    for (const [k, v] of this.to) if (v === old) this.to.set(k, name);
    this.to.set(old, name);
    this.to.delete(name);
  }

  /** What a line is called now, if there is none of this name. */
  now(key: string, has: (key: string) => boolean): string {
    if (has(key)) return key;
    const own = this.to.get(key);
    if (own !== undefined && has(own)) return own;
    const [step, block] = key.split("/");
    const moved = step ? this.to.get(step) : undefined;
    return block !== undefined && moved !== undefined ? this.now(`${moved}/${block}`, has) : (own ?? key);
  }

  /** What a line is known by: the same while it is renamed, and never that of another. */
  id(key: string, has: (key: string) => boolean): string {
    const known = this.from.get(key);
    if (known !== undefined) return known;
    const used = new Set([...this.from].flatMap(([k, id]) => (has(k) ? [id] : [])));
    let id = key;
    for (let n = 2; used.has(id); n++) id = `${key} ${String(n)}`;
    if (id !== key) this.from.set(key, id);
    return id;
  }
}
