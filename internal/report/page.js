"use strict";
const data = JSON.parse(document.getElementById("data").textContent);
const $ = (selector, from = document) => [...from.querySelectorAll(selector)];
const groups = new Intl.NumberFormat("en-GB", { maximumFractionDigits: 1 });

// Tables: a heading sorts by its column, first from the greatest; names from A.
function valueOf(cell) {
  if (!cell) return "";
  if (cell.dataset.v !== undefined) return cell.dataset.v === "" ? NaN : Number(cell.dataset.v);
  return cell.textContent.trim();
}

function compare(a, b) {
  if (typeof a === "string" || typeof b === "string") return String(a).localeCompare(String(b), "en", { numeric: true });
  if (Number.isNaN(a)) return Number.isNaN(b) ? 0 : 1;
  return Number.isNaN(b) ? -1 : a - b;
}

function sortBy(table, column, heading) {
  const body = table.tBodies[0];
  const rows = [...body.rows].map((row) => ({ row, key: valueOf(row.cells[column]) }));
  const words = rows.some(({ key }) => typeof key === "string");
  const was = heading.getAttribute("aria-sort");
  const down = was ? was === "ascending" : !words;
  rows.sort((a, b) => {
    if (Number.isNaN(a.key) || Number.isNaN(b.key)) return compare(a.key, b.key); // what has no number stays last
    return down ? compare(b.key, a.key) : compare(a.key, b.key);
  });
  for (const other of $("th[aria-sort]", table)) other.removeAttribute("aria-sort");
  heading.setAttribute("aria-sort", down ? "descending" : "ascending");
  body.append(...rows.map(({ row }) => row));
  refresh(table);
}

for (const table of $("table.sortable")) {
  $("thead th", table).forEach((heading, column) => {
    heading.querySelector("button").addEventListener("click", () => sortBy(table, column, heading));
  });
}

// Of a long table the first rows are shown, until all are asked for; what is filtered, sorted and downloaded is all of it.
const atFirst = 100;

function refresh(table) {
  const input = document.querySelector(`input[data-filter="${table.id}"]`);
  const wanted = input ? input.value.trim().toLocaleLowerCase() : "";
  const all = table.classList.contains("all");
  const rows = table.tBodies[0].rows;
  let fit = 0;
  for (const row of rows) {
    row.hidden = wanted !== "" && !row.textContent.toLocaleLowerCase().includes(wanted);
    row.classList.toggle("beyond", !row.hidden && !all && fit >= atFirst);
    if (!row.hidden) fit++;
  }
  const told = document.getElementById(table.id + "-told");
  if (told && (wanted !== "" || told.textContent !== "")) told.textContent = `${fit} of ${rows.length} rows`;
  const more = document.getElementById(table.id + "-more");
  if (more) {
    more.hidden = all || fit <= atFirst;
    more.textContent = `show all ${fit} rows`;
  }
}

for (const table of $("table.sortable")) {
  const input = document.querySelector(`input[data-filter="${table.id}"]`);
  if (input) input.addEventListener("input", () => refresh(table));
  if (table.tBodies[0].rows.length <= atFirst) continue;
  const more = document.createElement("button");
  [more.type, more.className, more.id] = ["button", "act", table.id + "-more"];
  more.addEventListener("click", () => {
    table.classList.add("all");
    refresh(table);
  });
  table.parentElement.after(more);
  refresh(table);
}

// A table can be downloaded as CSV, with numbers as they are and not as they are rounded.
function csvOf(table) {
  const quote = (text) => {
    if (/^[=+@\t\r-]/.test(text) && Number.isNaN(Number(text))) text = "'" + text; // a spreadsheet would run it
    return /[",\n\r]/.test(text) ? '"' + text.replaceAll('"', '""') + '"' : text;
  };
  const cell = (c) => quote(c.dataset.v !== undefined ? c.dataset.v : c.textContent.trim());
  return [...table.rows].filter((row) => !row.hidden).map((row) => [...row.cells].map(cell).join(",")).join("\r\n") + "\r\n";
}

for (const button of $("button[data-csv]")) {
  button.addEventListener("click", () => {
    const link = document.createElement("a");
    link.href = URL.createObjectURL(new Blob([csvOf(document.getElementById(button.dataset.csv))], { type: "text/csv" }));
    link.download = button.dataset.csv + ".csv";
    link.click();
    setTimeout(() => URL.revokeObjectURL(link.href), 1000);
  });
}

// The map: two epochs, a slider between them, and what is where the pointer is.
const stage = document.getElementById("stage");
if (stage) {
  const images = $("img", stage);
  const [left, right, slide] = ["left", "right", "slide"].map((id) => document.getElementById(id));
  const show = () => {
    images.forEach((image, i) => {
      image.classList.toggle("under", left && i === Number(left.value));
      image.classList.toggle("over", i === (right ? Number(right.value) : images.length - 1));
    });
    stage.style.setProperty("--at", (slide ? slide.value : 0) + "%");
    if (slide) slide.setAttribute("aria-valuetext", `${data.epochs[left.value]} left of ${slide.value} %, ${data.epochs[right.value]} right of it`);
  };
  for (const control of [left, right, slide]) if (control) control.addEventListener("input", show);
  show();

  const pixels = new Map();
  const read = async (id) => {
    if (pixels.has(id)) return pixels.get(id);
    const image = document.getElementById(id);
    await image.decode();
    const canvas = document.createElement("canvas");
    [canvas.width, canvas.height] = [image.naturalWidth, image.naturalHeight];
    const context = canvas.getContext("2d", { willReadFrequently: true });
    context.drawImage(image, 0, 0);
    pixels.set(id, context.getImageData(0, 0, canvas.width, canvas.height));
    return pixels.get(id);
  };
  const at = (image, x, y) => {
    const i = 4 * (y * image.width + x);
    return image.data[i] + 256 * image.data[i + 1];
  };
  const here = document.getElementById("here");
  stage.addEventListener("pointermove", async (event) => {
    const box = stage.getBoundingClientRect();
    const [fx, fy] = [(event.clientX - box.left) / box.width, (event.clientY - box.top) / box.height];
    if (fx < 0 || fy < 0 || fx >= 1 || fy >= 1) return;
    const epoch = !left ? images.length - 1 : Number(fx * 100 < slide.value ? left.value : right.value);
    const [zones, classes] = [await read("zone-index"), await read("class-index-" + epoch)];
    const [x, y] = [Math.floor(fx * zones.width), Math.floor(fy * zones.height)];
    const zone = data.zones[at(zones, x, y) - 1];
    const place = at(classes, x, y) - 1;
    let words = `${data.epochs[epoch] || "the map"}: ${place < 0 ? "no class" : data.classes[place]}`;
    if (zone && place >= 0 && zone.areas[epoch][place] >= 0) words += `, of which ${zone.label} has ${groups.format(zone.areas[epoch][place])} ${data.unit}`;
    else if (zone) words += `, in ${zone.label}`;
    else words += ", in no zone";
    here.textContent = words;
  });
}

// A number explains itself: what it is, and the command that shows what it is made of.
const dialog = document.getElementById("why");
document.addEventListener("click", (event) => {
  const link = event.target.closest("a.why");
  if (!link || !dialog.showModal) return;
  event.preventDefault();
  const cell = link.closest("td");
  const zone = link.closest("[data-zone]");
  let [heading, row, caption] = [link, zone, zone && zone.querySelector("h3")]; // of a number outside a table
  if (cell) {
    const table = cell.closest("table");
    [heading, row, caption] = [table.tHead.rows[0].cells[cell.cellIndex], cell.parentElement, table.caption];
  }
  const said = [link.textContent.trim() + " " + (heading.dataset.unit || data.unit)];
  if (cell) said.push(row.cells[0].textContent.trim(), heading.textContent.trim());
  said.push(caption ? caption.textContent.trim() : "");
  document.getElementById("why-what").textContent = said.filter(Boolean).join(" · ");
  document.getElementById("why-how").textContent = data.how[heading.dataset.how];
  const quote = (text) => "'" + text.replaceAll("'", "'\\''") + "'";
  const klass = (heading.dataset.class !== undefined ? heading : row || heading).dataset.class;
  const epochs = [heading.dataset.since, heading.dataset.epoch].filter((label) => label !== undefined);
  const known = data.explain && zone && klass !== undefined && epochs.length > 0;
  document.getElementById("why-more").hidden = !known;
  document.getElementById("why-command").textContent = known ? epochs.map((label) =>
    `${data.explain} --zone ${quote(zone.dataset.zone)} --class ${quote(klass)} --epoch ${quote(label)}`).join("\n") : "";
  dialog.showModal();
});
for (const closer of $("[data-close]")) closer.addEventListener("click", () => dialog.close());

const jump = document.getElementById("jump");
if (jump) jump.addEventListener("change", () => {
  if (jump.value) location.hash = jump.value;
});
