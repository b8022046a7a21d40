/** Where the cursor goes when a line opens: to the first field in which nothing stands yet. */
export function firstField(line: Element | null | undefined): HTMLElement | undefined {
  const fields = [
    ...(line?.querySelectorAll<HTMLElement>("input, select, textarea, .cm-content, button.field") ?? []),
  ];
  return (
    fields.find((f) =>
      f instanceof HTMLInputElement || f instanceof HTMLSelectElement || f instanceof HTMLTextAreaElement
        ? f.value === ""
        : f.querySelector(".cm-placeholder, .text-third")?.textContent,
    ) ?? fields[0]
  );
}
