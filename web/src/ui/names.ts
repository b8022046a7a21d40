/** A name made of a title, of small letters and digits that begin with a letter: "Short name" becomes short_name. */
export const plainName = (title: string, between = "_") =>
  title
    .normalize("NFKD")
    .replace(/[\u0300-\u036f]/g, "")
    .toLowerCase()
    .replace(/[^a-z0-9]+/g, between)
    .replace(/^[^a-z]+/, "")
    .slice(0, 60)
    .replace(new RegExp(`${between}+$`), "");
