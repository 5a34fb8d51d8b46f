// Search in all sections. What there is comes as a script, so that it works from files as well.
"use strict";
(() => {
  const field = document.querySelector("#search"), found = document.querySelector("#found");
  const top = document.documentElement.dataset.top;
  let at = -1;
  // Where the list of sections is above the text, it would be all that is seen.
  if (window.innerWidth < 1000) document.querySelector(".contents details").open = false;
  const words = (text) => text.toLowerCase().split(/\s+/).filter((word) => word !== "");

  // How well a section fits: its title counts most, then the start of its text.
  const rank = ([title, , page, text], wanted) => {
    let sum = 0;
    for (const word of wanted) {
      const [inTitle, inText] = [title.toLowerCase().indexOf(word), text.toLowerCase().indexOf(word)];
      if (inTitle < 0 && inText < 0 && !page.toLowerCase().includes(word)) return 0;
      sum += inTitle === 0 ? 40 : inTitle > 0 ? 20 : 0;
      sum += inText >= 0 ? 5 - Math.min(4, inText / 400) : 0;
    }
    return sum + 1;
  };

  const excerpt = (text, wanted) => {
    const place = Math.max(0, ...wanted.map((word) => text.toLowerCase().indexOf(word)));
    const from = Math.max(0, place - 40);
    return (from > 0 ? "…" : "") + text.slice(from, from + 140) + "…";
  };

  const choose = (number) => {
    const all = [...found.querySelectorAll("a")];
    if (all.length === 0) return;
    at = (number + all.length) % all.length;
    all.forEach((link, place) => link.setAttribute("aria-selected", place === at));
    all[at].scrollIntoView({ block: "nearest" });
  };

  const show = () => {
    const wanted = words(field.value);
    found.replaceChildren();
    at = -1;
    found.hidden = wanted.length === 0;
    if (found.hidden) return;
    const fits = SECTIONS.map((section) => [rank(section, wanted), section]).filter(([sum]) => sum > 0);
    fits.sort((one, other) => other[0] - one[0]);
    for (const [, [title, address, page, text]] of fits.slice(0, 20)) {
      const link = document.createElement("a"), where = document.createElement("small");
      link.href = top + address;
      link.role = "option";
      link.textContent = title;
      where.textContent = page + ": " + excerpt(text, wanted);
      link.append(where);
      found.append(link);
    }
    if (fits.length === 0) {
      const none = document.createElement("p");
      none.textContent = "Nothing has all of these words.";
      none.style.padding = "2px 10px";
      found.append(none);
    }
  };

  field.addEventListener("input", show);
  field.addEventListener("keydown", (event) => {
    if (event.key === "ArrowDown") choose(at + 1);
    else if (event.key === "ArrowUp") choose(at - 1);
    else if (event.key === "Escape") { field.value = ""; show(); }
    else if (event.key === "Enter") found.querySelectorAll("a")[Math.max(at, 0)]?.click();
    else return;
    event.preventDefault();
  });
  document.addEventListener("keydown", (event) => {
    if (event.key === "/" && document.activeElement !== field) { event.preventDefault(); field.focus(); }
  });
  document.addEventListener("click", (event) => { if (!found.contains(event.target) && event.target !== field) found.hidden = true; });
})();
