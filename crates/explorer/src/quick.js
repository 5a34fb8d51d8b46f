"use strict";
// Everything here is a quicker way to what the pages hold without it.
const words = document.getElementById("words");
const found = document.getElementById("found");
const isServed = document.body.dataset.served === "true";
let chosen = -1;
let asked = 0;
let names = null;

/** What fits some words, as rows of what it is, its name and its page. */
async function look(text) {
  if (isServed) {
    const answer = await fetch("found.json?words=" + encodeURIComponent(text));
    return answer.json();
  }
  if (names === null) {
    // A file may not be fetched by a page that is a file; a script may be loaded.
    await new Promise((loaded, failed) => {
      const script = document.createElement("script");
      script.src = "names.js";
      script.onload = loaded;
      script.onerror = failed;
      document.head.append(script);
    });
    names = window.nubrikNames;
  }
  const parts = text.toLowerCase().split(/\s+/).filter((part) => part !== "");
  const rank = (name) => (name === text ? 0 : name.startsWith(parts[0]) ? 1 : name.includes("/" + parts[0]) ? 2 : 3);
  return names
    .filter(([what, name, , more]) => parts.every((part) => (what + " " + name + " " + more).toLowerCase().includes(part)))
    .sort((a, b) => rank(a[1].toLowerCase()) - rank(b[1].toLowerCase()) || a[1].length - b[1].length)
    .slice(0, 12);
}

function show(rows) {
  found.replaceChildren();
  rows.forEach(([what, name, page], number) => {
    const link = document.createElement("a");
    link.href = page;
    link.id = "found" + number;
    link.setAttribute("role", "option");
    const kind = document.createElement("span");
    kind.className = "lead";
    kind.textContent = what;
    const text = document.createElement("span");
    text.className = "name";
    text.textContent = name;
    link.append(text, kind);
    found.append(link);
  });
  chosen = -1;
  found.hidden = rows.length === 0;
  words.setAttribute("aria-expanded", String(rows.length > 0));
  words.removeAttribute("aria-activedescendant");
}

words.addEventListener("input", async () => {
  const own = ++asked;
  const text = words.value.trim();
  const rows = text === "" ? [] : await look(text);
  if (own === asked) show(rows);
});

words.addEventListener("keydown", (event) => {
  const links = [...found.children];
  if (event.key === "Escape" && !found.hidden) {
    // What was typed stays; once more, and the browser clears it.
    event.preventDefault();
    show([]);
  } else if ((event.key === "ArrowDown" || event.key === "ArrowUp") && links.length > 0) {
    event.preventDefault();
    chosen = (chosen + (event.key === "ArrowDown" ? 1 : links.length - 1) + (chosen < 0 && event.key === "ArrowUp" ? 1 : 0)) % links.length;
    links.forEach((link, number) => link.setAttribute("aria-selected", String(number === chosen)));
    words.setAttribute("aria-activedescendant", links[chosen].id);
    links[chosen].scrollIntoView({ block: "nearest" });
  } else if (event.key === "Enter" && links.length > 0 && (chosen >= 0 || !isServed)) {
    event.preventDefault();
    location.href = links[Math.max(chosen, 0)].href;
  }
});

document.addEventListener("keydown", (event) => {
  const isTyping = /^(INPUT|SELECT|TEXTAREA)$/.test(document.activeElement.tagName);
  if (event.key === "/" && !isTyping && !event.ctrlKey && !event.metaKey) {
    event.preventDefault();
    words.focus();
  }
});
document.addEventListener("click", (event) => {
  if (!event.target.closest(".search")) show([]);
});

// A build that runs: what the page holds is asked for again when something happened.
const live = document.getElementById("live");
if (live !== null && isServed) {
  let isAsking = false;
  let isAgain = false;
  const ask = async () => {
    isAgain = isAsking;
    if (isAsking) return;
    isAsking = true;
    do {
      isAgain = false;
      const answer = await fetch("live.part");
      live.innerHTML = await answer.text();
      await new Promise((go) => setTimeout(go, 100));
    } while (isAgain);
    isAsking = false;
  };
  new EventSource("events").onmessage = ask;
  // Times go on though nothing happens.
  setInterval(() => { if (live.querySelector(".state.run") !== null) ask(); }, 1000);
}
