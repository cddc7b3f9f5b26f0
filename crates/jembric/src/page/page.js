
"use strict";
// Sorts, searches and divides the tables, switches between grains, and unfolds everything for
// print. Without it, the page is complete: its tables are plain, and every grain is shown.
(() => {
  const texts = document.body.dataset;
  const ROWS_OF_A_PAGE = 50;
  const ROWS_TO_SEARCH = 10;

  const filled = (text, values) => text.replace(/\{(\w+)\}/g, (_, name) => values[name]);
  const shown = (number) => number.toLocaleString("en");
  const made = (name, text) => {
    const element = document.createElement(name);
    if (text) element.textContent = text;
    return element;
  };
  const button = (text, act) => {
    const element = made("button", text);
    element.type = "button";
    element.addEventListener("click", act);
    return element;
  };

  function prepare(box) {
    const body = box.querySelector("tbody");
    const rows = [...body.rows];
    let order = rows;
    let page = 0;
    // The text of each row, once it is searched.
    let haystack = null;
    let wanted = "";

    const tools = made("div");
    tools.className = "tools";
    const search = made("input");
    search.type = "search";
    const label = made("label", texts.search);
    label.append(search);
    const status = made("p");
    status.setAttribute("role", "status");
    const pages = made("div");
    pages.className = "pages";
    const place = made("span");
    const turn = (by) => {
      page += by;
      show();
    };
    const previous = button(texts.previous, () => turn(-1));
    const next = button(texts.next, () => turn(1));
    pages.append(previous, place, next);

    // Rows that are not found are hidden, in print as well. Rows of other pages are hidden on the
    // screen only.
    function show() {
      const found = wanted
        ? order.filter((row) => haystack.get(row).includes(wanted))
        : order;
      const count = Math.max(1, Math.ceil(found.length / ROWS_OF_A_PAGE));
      page = Math.min(Math.max(page, 0), count - 1);
      if (wanted) {
        const all = new Set(found);
        for (const row of rows) row.hidden = !all.has(row);
      } else {
        for (const row of rows) row.hidden = false;
      }
      const first = page * ROWS_OF_A_PAGE;
      found.forEach((row, n) => {
        row.classList.toggle("off", n < first || n >= first + ROWS_OF_A_PAGE);
      });
      status.textContent = filled(texts.found, {
        found: shown(found.length),
        rows: shown(rows.length),
      });
      place.textContent = filled(texts.page, { page: shown(page + 1), pages: shown(count) });
      pages.hidden = count === 1;
      previous.disabled = page === 0;
      next.disabled = page === count - 1;
    }

    search.addEventListener("input", () => {
      haystack ??= new Map(
        rows.map((row) => [
          row,
          [...row.cells].map((cell) => cell.textContent).join("\n").toLowerCase(),
        ]),
      );
      wanted = search.value.trim().toLowerCase();
      page = 0;
      show();
    });

    // By the rank of each value. Missing values are last, and rows with equal values keep their
    // order. The third time restores the order of the result.
    const heads = [...box.querySelectorAll("th[data-ranks]")];
    function sort(head) {
      const before = head.getAttribute("aria-sort");
      const direction = { none: "ascending", ascending: "descending" }[before] ?? "none";
      for (const other of heads) other.setAttribute("aria-sort", "none");
      head.setAttribute("aria-sort", direction);
      order = rows;
      if (direction !== "none") {
        const ranks = head.dataset.ranks.split(",").map((rank) => (rank ? Number(rank) : null));
        const sign = direction === "ascending" ? 1 : -1;
        const places = rows.map((_, n) => n);
        places.sort((one, other) => {
          const [a, b] = [ranks[one], ranks[other]];
          if (a === null || b === null) return (a === null) - (b === null) || one - other;
          return sign * (a - b) || one - other;
        });
        order = places.map((n) => rows[n]);
      }
      body.append(...order);
      page = 0;
      show();
    }
    for (const head of heads) {
      const act = button("", () => sort(head));
      act.append(...head.childNodes);
      head.append(act);
      head.setAttribute("aria-sort", "none");
    }

    if (rows.length > ROWS_TO_SEARCH) {
      tools.append(label, status, pages);
      box.prepend(tools);
      show();
    }
  }

  function choose(group) {
    const buttons = [...group.querySelectorAll("button")];
    const views = [];
    for (let view = group.nextElementSibling; view?.matches(".view"); ) {
      views.push(view);
      view = view.nextElementSibling;
    }
    const show = (grain) => {
      for (const one of buttons) one.setAttribute("aria-pressed", one.dataset.grain === grain);
      for (const view of views) view.hidden = view.dataset.view !== grain;
    };
    for (const one of buttons) one.addEventListener("click", () => show(one.dataset.grain));
    show(buttons[0].dataset.grain);
    group.hidden = false;
  }

  document.querySelectorAll(".table").forEach(prepare);
  document.querySelectorAll(".grains").forEach(choose);

  let folded = [];
  addEventListener("beforeprint", () => {
    folded = [...document.querySelectorAll("details:not([open])")];
    for (const one of folded) one.open = true;
  });
  addEventListener("afterprint", () => {
    for (const one of folded) one.open = false;
  });
})();
