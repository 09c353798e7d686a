// Files that are dropped on the page.

/** @param take (file, where) => void, with the element that it was dropped on. */
export function listenToDrops(mark, take) {
  let over = null;
  const show = (place) => {
    if (place === over) return;
    over?.classList.remove("is-dropped-on");
    over = place;
    over?.classList.add("is-dropped-on");
  };
  const isFile = (event) => [...(event.dataTransfer?.types ?? [])].includes("Files");
  document.addEventListener("dragover", (event) => {
    if (!isFile(event)) return;
    event.preventDefault();
    show(mark(event.target));
  });
  document.addEventListener("dragleave", (event) => {
    if (!event.relatedTarget) show(null);
  });
  document.addEventListener("drop", (event) => {
    if (!isFile(event)) return;
    event.preventDefault(); // else the browser would leave the page for the file
    const place = over;
    show(null);
    const [file] = event.dataTransfer.files;
    if (file && place) take(file, place);
  });
}
