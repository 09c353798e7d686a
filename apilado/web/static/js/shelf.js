// The shelf: one card's form open at a time; the chosen file is forgotten, so that it can be chosen again.
document.addEventListener("toggle", (event) => {
  if (!event.target.open || !event.target.matches(".card-more")) return;
  document.querySelectorAll(".card-more[open]").forEach((other) => { if (other !== event.target) other.open = false; });
}, true);
document.addEventListener("htmx:afterRequest", (event) => {
  const file = event.target.querySelector?.("input[type=file]");
  if (file) file.value = "";
});
