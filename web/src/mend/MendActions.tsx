import type { Fields, Schemas } from "../api/client";
import { EditItem } from "./EditItem";
import { MendButton } from "./MendButton";
import { useMend } from "../api/mending";
import { toldWithUndo } from "../ui/toldWithUndo";

interface Props {
  run: string;
  address: string;
  kind: Schemas["ItemKind"];
  fields: Fields;
}

/** What can be done about one item that waits for somebody. */
export function MendActions({ run, address, kind, fields }: Props) {
  const { dismiss } = useMend();
  const items = [{ run, address }];
  const undo = () => {
    dismiss.mutate({ items, restore: true });
  };
  if (kind === "may_have_been_sent") {
    return (
      <>
        <MendButton wish={{ what: "confirm", items }} words="It was done" />
        <MendButton wish={{ what: "retry", items }} words="Send it again" />
      </>
    );
  }
  return (
    <>
      <EditItem run={run} address={address} fields={fields} />
      <MendButton wish={{ what: "retry", items }} words="Retry this one" />
      <button
        className="btn"
        disabled={dismiss.isPending}
        onClick={() => {
          dismiss.mutate(
            { items },
            {
              onSuccess: () => {
                toldWithUndo("It waits for nobody any more", undo);
              },
            },
          );
        }}
      >
        Dismiss
      </button>
    </>
  );
}
