import { asFields, type Connection, type Connector, type Schemas } from "../api/client";
import type { Offer } from "./findLines";

const titlesOf = (list: Schemas["Property"][]) =>
  list.map((p) => String(asFields(p.schema)["title"] ?? p.name)).join(" ");

/** All that a line can be: what the service does itself, and the actions of every application. */
export function offersOf(
  kinds: Schemas["Kind"][],
  connectors: Connector[],
  connections: Pick<Connection, "connector">[],
): Offer[] {
  const connected = new Set(connections.map((c) => c.connector));
  return [
    ...kinds.map((k) => ({
      type: k.type,
      title: k.title,
      sentence: "",
      app: "",
      about: "",
      help: k.help,
      words: `${k.words} ${k.type}`,
      fields: titlesOf(k.settings),
      writes: false,
      connected: k.needs === undefined || connected.has(k.needs),
    })),
    ...connectors.flatMap((c) =>
      c.actions.map((a) => ({
        type: `${c.name}.${a.name}`,
        title: a.title,
        sentence: a.sentence,
        app: c.title,
        about: c.about,
        help: a.help ?? "",
        words: a.name.replaceAll("_", " "),
        fields: titlesOf(a.fields),
        writes: a.effect === "write",
        connected: connected.has(c.name),
      })),
    ),
  ];
}
