// A colour can be picked as well as written; without scripts there is the box alone.
const showPickers = (root) => root.querySelectorAll?.("[data-picks]").forEach((picker) => { picker.hidden = false; });
document.addEventListener("DOMContentLoaded", () => showPickers(document));
document.addEventListener("htmx:after:swap", () => showPickers(document));
document.addEventListener("input", (event) => {
  if (!event.target.dataset?.picks) return;
  const box = document.getElementById(event.target.dataset.picks);
  box.value = event.target.value;
  box.dispatchEvent(new Event("input", { bubbles: true }));
});
document.addEventListener("change", (event) => {
  if (event.target.dataset?.picks) document.getElementById(event.target.dataset.picks).dispatchEvent(new Event("change", { bubbles: true }));
});
