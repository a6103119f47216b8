"use strict";
(() => {
  const body = document.querySelector("#cells tbody");
  const rows = Array.from(body.rows);
  const texts = rows.map((row) => row.textContent.toLowerCase());
  const search = document.getElementById("search");
  const unexpected = document.getElementById("unexpected");
  const count = document.getElementById("count");
  const show = () => {
    const words = search.value.toLowerCase().split(/\s+/).filter(Boolean);
    let shown = 0;
    rows.forEach((row, i) => {
      const fits = words.every((word) => texts[i].includes(word)) && (!unexpected.checked || row.classList.contains("unexpected"));
      row.hidden = !fits;
      shown += fits ? 1 : 0;
    });
    count.textContent = shown === rows.length ? rows.length + " rows" : shown + " of " + rows.length + " rows";
  };
  search.addEventListener("input", show);
  unexpected.addEventListener("change", show);
  const heads = Array.from(document.querySelectorAll("#cells thead th"));
  const collator = new Intl.Collator("en", { numeric: true });
  heads.forEach((head, column) => {
    head.querySelector("button").addEventListener("click", () => {
      const down = head.getAttribute("aria-sort") === "ascending";
      heads.forEach((other) => other.setAttribute("aria-sort", "none"));
      head.setAttribute("aria-sort", down ? "descending" : "ascending");
      const order = rows.map((row, i) => [row.cells[column].textContent, i]);
      order.sort((a, b) => (down ? -1 : 1) * collator.compare(a[0], b[0]) || a[1] - b[1]);
      body.append(...order.map(([, i]) => rows[i]));
    });
  });
  show();
})();
