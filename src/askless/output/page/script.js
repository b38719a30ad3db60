// Search, unfolding, zoom and colours: the page says all that it says without any of it.
"use strict";
(() => {
  const root = document.documentElement;
  const main = document.getElementById("report");
  const all = (selector, from = document) => [...from.querySelectorAll(selector)];
  let wanted = "";

  function search(text) {
    wanted = text.trim().toLowerCase();
    let shown = 0;
    for (const part of all("[data-found]")) {
      part.searched ??= part.textContent.toLowerCase();
      const fits = part.searched.includes(wanted);
      part.classList.toggle("away", !fits);
      if (part.parentElement.matches(".edits > li")) part.parentElement.classList.toggle("away", !fits);
      shown += fits;
    }
    document.getElementById("hits").textContent = wanted ? `${shown} found` : "";
  }

  function unfold(open) {
    for (const part of all("details.story, details.timeline, #growth details, #compared details, .plan > details")) part.open = open;
    const button = document.getElementById("unfold");
    button.setAttribute("aria-pressed", String(open));
    button.textContent = open ? "Fold all" : "Unfold all";
  }

  function ranged(name, most, step) {
    const label = document.createElement("label");
    const input = document.createElement("input");
    Object.assign(input, { type: "range", min: most === 1 ? 0 : 1, max: most, step, value: most === 1 ? 0 : 1 });
    label.append(name + " ", input);
    return [label, input];
  }

  function zoomable(part) {
    const table = part.querySelector(".lanes");
    if (part.querySelector(".zoom")) return;
    const total = Number(table.dataset.ms);
    const [zoomLabel, zoom] = ranged("zoom", 40, 0.5);
    const [fromLabel, from] = ranged("from", 1, 0.005);
    const bar = document.createElement("div");
    bar.className = "zoom";
    bar.append(zoomLabel, fromLabel);
    table.closest(".scroller").before(bar);
    const written = (ms) => (ms >= 100 ? ms.toFixed(0) : ms >= 10 ? ms.toFixed(1) : ms.toFixed(2));
    const draw = () => {
      const start = Number(from.value) * (1 - 1 / Number(zoom.value));
      table.style.setProperty("--zoom", zoom.value);
      table.style.setProperty("--from", String(start));
      table.querySelector(".from").textContent = start ? written(start * total) : "0";
      table.querySelector(".to").textContent = written((start + 1 / Number(zoom.value)) * total);
    };
    zoom.addEventListener("input", draw);
    from.addEventListener("input", draw);
  }

  function ready() {
    document.getElementById("tools").hidden = false;
    const field = document.getElementById("search");
    field.value = wanted;
    field.addEventListener("input", () => search(field.value));
    field.addEventListener("keydown", (event) => {
      if (event.key === "Escape") search((field.value = ""));
    });
    const button = document.getElementById("unfold");
    button.addEventListener("click", () => unfold(button.getAttribute("aria-pressed") !== "true"));
    const theme = document.getElementById("theme");
    theme.value = root.dataset.theme ?? "";
    theme.addEventListener("change", () => {
      if (theme.value) root.dataset.theme = theme.value;
      else delete root.dataset.theme;
    });
    for (const part of all("details.timeline")) {
      if (part.open) zoomable(part);
      part.addEventListener("toggle", () => zoomable(part));
    }
    if (wanted) search(wanted);
  }

  document.addEventListener("keydown", (event) => {
    if (event.key !== "/" || event.ctrlKey || event.metaKey || event.target.closest("input, select, textarea")) return;
    event.preventDefault();
    document.getElementById("search").focus();
  });
  addEventListener("hashchange", opened);
  addEventListener("beforeprint", () => unfold(true));

  function opened() {
    const aimed = document.getElementById(decodeURIComponent(location.hash.slice(1)));
    if (aimed?.matches("details")) aimed.open = true;
  }

  // Where the capture grows, the report is asked for again: what is open, searched and scrolled to stays.
  function follow(address) {
    const events = new EventSource(address);
    events.addEventListener("grown", async () => {
      const answer = await fetch(location.href.split("#")[0]);
      if (!answer.ok) return;
      const fresh = new DOMParser().parseFromString(await answer.text(), "text/html").getElementById("report");
      const open = new Set(all("details.story[open]").map((part) => part.id));
      const at = scrollY;
      main.replaceChildren(...fresh.childNodes);
      for (const part of all("details.story")) part.open = part.open || open.has(part.id);
      ready();
      scrollTo(0, at);
      document.getElementById("grown").textContent = `grown at ${new Date().toLocaleTimeString()}`;
    });
    events.addEventListener("error", () => {
      const told = document.getElementById("grown");
      if (events.readyState === EventSource.CLOSED) told.textContent = "askless serve has ended; this is its last word";
    });
  }

  ready();
  opened();
  if (document.body.dataset.live) follow(document.body.dataset.live);
})();
