import { setNonce } from "get-nonce";

/** What a style element is allowed by, which is made while the page runs (Content Security Policy level 3). */
export const styleNonce = document.querySelector<HTMLMetaElement>('meta[name="style-nonce"]')?.content ?? "";

// Whatever locks the page behind a dialog asks for it there.
setNonce(styleNonce);
