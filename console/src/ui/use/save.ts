/** Hand a file to the browser to save: made here, from what is on the page. */
export function save(name: string, content: BlobPart): void {
  const address = URL.createObjectURL(new Blob([content]));
  const link = document.createElement("a");
  link.href = address;
  link.download = name;
  link.click();
  setTimeout(() => URL.revokeObjectURL(address), 10_000);
}
