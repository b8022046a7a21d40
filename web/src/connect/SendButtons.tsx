interface Props {
  writes: boolean;
  busy: boolean;
  onSend: (really: boolean) => void;
}

/** Shows a request as it would go out, or makes it. What writes is never the main thing to press. */
export function SendButtons({ writes, busy, onSend }: Props) {
  return (
    <>
      <button
        className="btn"
        disabled={busy}
        onClick={() => {
          onSend(false);
        }}
      >
        Show the request
      </button>
      <button
        className={`btn ${writes ? "border-amber text-amber" : "btn-main"}`}
        disabled={busy}
        onClick={() => {
          onSend(true);
        }}
      >
        {writes ? "Send one for real" : "Try it"}
      </button>
    </>
  );
}
