import type { Connection } from "../api/client";
import { Badge } from "../ui/parts";

/** How a connection stands, in a word. */
export function State({ c }: { c: Connection }) {
  switch (c.state) {
    case "ok":
      return c.held_until ? (
        <Badge tone="amber">Told to wait</Badge>
      ) : c.missing.length > 0 ? (
        <Badge tone="amber">Lacks something</Badge>
      ) : (
        <Badge tone="leaf">Works</Badge>
      );
    case "broken":
      return <Badge tone="rust">Does not work</Badge>;
    case "consent":
      return <Badge tone="amber">Not signed in</Badge>;
    case "confirm":
      return <Badge tone="amber">To confirm</Badge>;
    default:
      return <Badge>Not checked</Badge>;
  }
}
