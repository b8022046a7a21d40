import { useEffect, useRef, useState } from "react";
import type { Json } from "../api/client";
import type { Typed } from "./read";

type Input = HTMLInputElement | HTMLTextAreaElement;

/**
 * The text of a control that is typed into. What is typed counts while the control has the focus, not what
 * the service has answered so far; what cannot be read stays as it is, and is told once the control was left.
 */
export function useTyped<E extends Input>(
  value: Json | undefined,
  write: (v: Json | undefined) => string,
  read: (text: string) => Typed,
  onSet: (v: Json | undefined) => void,
) {
  const ref = useRef<E>(null);
  const [text, setText] = useState(() => write(value));
  const [left, setLeft] = useState(false);
  const written = write(value);
  const typed = read(text);
  const wrong = "wrong" in typed ? typed.wrong : undefined;
  useEffect(() => {
    if (document.activeElement !== ref.current && wrong === undefined) setText(written);
    // Only a value from outside is taken up.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [written]);
  return {
    wrong: left ? wrong : undefined,
    control: {
      ref,
      value: text,
      "aria-invalid": left && wrong !== undefined,
      onChange: (e: React.ChangeEvent<E>) => {
        setText(e.target.value);
        const now = read(e.target.value);
        if ("value" in now) onSet(now.value);
      },
      onFocus: () => {
        setLeft(false);
      },
      onBlur: () => {
        setLeft(true);
        if (wrong === undefined && "value" in typed) setText(write(typed.value));
      },
    },
  };
}
