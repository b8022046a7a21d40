import { useNavigate, useSearch } from "@tanstack/react-router";
import { useEffect, useRef } from "react";
import type { Edit } from "../api/draft";

/** The line that the page's address names. */
export const lineInAddress = () => new URLSearchParams(location.search).get("line") ?? undefined;

/**
 * Keeps the opened line in the page's address, so that it can be linked to and come back to. An address may
 * also say which connection the line shall use: one that was added for it on another page.
 */
export function useLineInAddress(opened: string | undefined, edit: (edits: Edit[]) => void) {
  const navigate = useNavigate();
  const { use }: { use?: string } = useSearch({ strict: false });
  const used = useRef(false);
  useEffect(() => {
    if (use !== undefined && opened !== undefined && !used.current) {
      used.current = true;
      edit([{ op: "set", step: opened, key: "connection", value: use }]);
    }
    if (lineInAddress() === opened && use === undefined) return;
    void navigate({ to: ".", search: opened === undefined ? {} : { line: opened }, replace: true });
  }, [navigate, opened, use, edit]);
}
