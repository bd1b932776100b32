"use strict";
(() => {
  const form = document.querySelector("form.filter");
  const rank = ["critical", "high", "medium", "low", "info"];
  // On paper everything is open.
  addEventListener("beforeprint", () => document.querySelectorAll("details").forEach((one) => { one.open = true; }));
  // A link to something folded away opens it.
  const unfold = () => {
    const target = document.getElementById(decodeURIComponent(location.hash.slice(1)));
    const around = target && target.closest("details");
    if (around) { around.open = true; target.scrollIntoView(); }
  };
  addEventListener("hashchange", unfold);
  unfold();
  if (!form) return;
  const flat = document.getElementById("flat");
  const groups = [...document.querySelectorAll(".group")];
  const devices = [...document.querySelectorAll("section.device")];
  const homes = groups.map((one) => one.parentElement);
  const texts = new Map();
  const textOf = (one) => {
    if (!texts.has(one)) texts.set(one, one.textContent.toLowerCase());
    return texts.get(one);
  };
  const order = (how) => {
    if (how === "device") {
      groups.forEach((one, number) => homes[number].append(one));
    } else {
      const sorted = groups.map((one, number) => [one, number]).sort(([a, i], [b, j]) => {
        const bySeverity = rank.indexOf(a.dataset.severity) - rank.indexOf(b.dataset.severity);
        const byCheck = a.dataset.check < b.dataset.check ? -1 : a.dataset.check > b.dataset.check ? 1 : 0;
        return (how === "severity" ? bySeverity || byCheck : byCheck || bySeverity) || i - j;
      });
      flat.append(...sorted.map(([one]) => one));
    }
    flat.hidden = how === "device";
  };
  let ordered = "device";
  const apply = () => {
    const wanted = new FormData(form);
    const severities = new Set(wanted.getAll("severity"));
    const words = wanted.get("text").toLowerCase().split(/\s+/).filter(Boolean);
    let shown = 0;
    for (const group of groups) {
      const fits = severities.has(group.dataset.severity)
        && (!wanted.get("device") || group.dataset.device.split(" ").includes(wanted.get("device")))
        && (!wanted.get("area") || group.dataset.area === wanted.get("area"));
      let here = 0;
      for (const finding of group.querySelectorAll(".finding")) {
        // What findings of a group share stands beside them and counts for each.
        const shared = words.length ? textOf(group.querySelector("h4")) + textOf(group.lastElementChild) : "";
        const match = fits && words.every((word) => textOf(finding).includes(word) || shared.includes(word));
        finding.hidden = !match;
        here += match ? 1 : 0;
      }
      group.hidden = !here;
      shown += here;
    }
    if (wanted.get("order") !== ordered) order(ordered = wanted.get("order"));
    for (const device of devices) {
      device.hidden = ordered !== "device" || (!device.querySelector(".group:not([hidden])") && shown < total);
    }
    form.querySelector(".count").textContent = shown === total ? `${total} findings` : `${shown} of ${total} findings`;
  };
  const total = document.querySelectorAll(".finding").length;
  form.hidden = false;
  form.addEventListener("submit", (event) => event.preventDefault());
  form.addEventListener("input", apply);
  apply();
})();
