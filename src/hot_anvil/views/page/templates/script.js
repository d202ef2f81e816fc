"use strict";
(() => {
  const all = [...document.querySelectorAll("details.line")];
  const form = document.getElementById("filter");
  const words = document.getElementById("words");
  const differing = document.getElementById("differing");
  const found = document.getElementById("found");
  const keys = document.getElementById("keys");
  const help = document.getElementById("help");
  form.hidden = false;

  const shown = () => all.filter((line) => !line.hidden);

  function filter() {
    const wanted = words.value.trim().toLowerCase();
    const only = differing.checked;
    for (const line of all) {
      const text = line.dataset.words;
      line.hidden = (only && !line.classList.contains("differs")) ||
        (wanted !== "" && !text.includes(wanted) &&
         !line.querySelector(".open").textContent.toLowerCase().includes(wanted));
    }
    const narrowed = only || wanted !== "";
    for (const line of document.querySelectorAll(".plain")) line.hidden = narrowed;
    found.textContent = narrowed ? `${shown().length} of ${all.length} lines` : "";
  }

  function toTarget() {
    let name = "";
    try { name = decodeURIComponent(location.hash.slice(1)); } catch { return; }
    const line = document.getElementById(name);
    if (line && line.matches("details.line")) {
      line.hidden = false;
      line.open = true;
      const head = line.querySelector("summary");
      head.focus({ preventScroll: true });
      requestAnimationFrame(() => head.scrollIntoView({ block: "center" }));
    }
  }

  function move(step) {
    const lines = shown();
    const now = lines.indexOf(document.activeElement.closest("details.line"));
    const next = lines[now < 0 ? 0 : Math.min(Math.max(now + step, 0), lines.length - 1)];
    if (next) {
      next.querySelector("summary").focus({ preventScroll: true });
      next.scrollIntoView({ block: "nearest" });
    }
  }

  function openAll() {
    const here = document.activeElement.closest("section") || document.querySelector("main section");
    const lines = shown().filter((line) => here.contains(line)).slice(0, 400);
    const open = lines.some((line) => !line.open);
    for (const line of lines) line.open = open;
  }

  let waiting = 0;
  words.addEventListener("input", () => { clearTimeout(waiting); waiting = setTimeout(filter, 120); });
  differing.addEventListener("change", filter);
  form.addEventListener("submit", (event) => event.preventDefault());
  keys.addEventListener("click", () => {
    help.hidden = !help.hidden;
    keys.setAttribute("aria-expanded", String(!help.hidden));
  });
  addEventListener("hashchange", toTarget);
  addEventListener("keydown", (event) => {
    if (event.ctrlKey || event.altKey || event.metaKey) return;
    if (event.target === words) {
      if (event.key === "Escape") words.blur();
      return;
    }
    if (event.key === "/") { event.preventDefault(); words.focus(); }
    else if (event.key === "j") move(1);
    else if (event.key === "k") move(-1);
    else if (event.key === "o") openAll();
    else if (event.key === "?") keys.click();
  });
  toTarget();
})();
