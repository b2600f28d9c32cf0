"use strict";
const night = JSON.parse(document.getElementById("night").textContent);
let touched = 0;
for (const kind of ["pointerdown", "keydown"]) {
  document.addEventListener(kind, () => { touched = Date.now(); });
}

// The map: what a square is, told below its row.
for (const map of document.querySelectorAll(".map")) {
  const series = night.series[Number(map.dataset.series)];
  const detail = map.parentElement.querySelector(".detail");
  const squares = map.children;
  const each = Math.ceil(series.cells.length / Math.max(squares.length, 1));
  let at = -1;
  const show = (next) => {
    if (squares[at]) squares[at].classList.remove("now");
    at = Math.max(0, Math.min(next, squares.length - 1));
    squares[at].classList.add("now");
    const own = series.cells.slice(at * each, (at + 1) * each);
    detail.textContent = own.slice(0, 4).map((cell) => words(series, cell)).join("   ") + (own.length > 4 ? " ..." : "");
  };
  const hide = () => {
    if (squares[at]) squares[at].classList.remove("now");
    detail.textContent = "";
    at = -1;
  };
  map.addEventListener("mousemove", (event) => {
    const next = Array.prototype.indexOf.call(squares, event.target);
    if (next >= 0 && next !== at) show(next);
  });
  map.addEventListener("mouseleave", () => { if (document.activeElement !== map) hide(); });
  map.addEventListener("focus", () => show(Math.max(at, 0)));
  map.addEventListener("blur", hide);
  map.addEventListener("keydown", (event) => {
    const row = rowLength(squares);
    const steps = { ArrowLeft: -1, ArrowRight: 1, ArrowUp: -row, ArrowDown: row, Home: -squares.length, End: squares.length };
    if (!(event.key in steps)) return;
    event.preventDefault();
    show(at + steps[event.key]);
  });
}

function rowLength(squares) {
  let count = 1;
  while (count < squares.length && squares[count].offsetTop === squares[0].offsetTop) count += 1;
  return count;
}

function words(series, cell) {
  const [, number, state, seconds, why, machine] = cell;
  const digits = (number < 0 ? "-" : "") + String(Math.abs(number)).padStart(series.width, "0");
  const parts = [series.pieces.join(digits), state];
  if (night.words[why]) parts.push(night.words[why]);
  if (seconds !== null) parts.push(seconds + " s");
  if (night.words[machine]) parts.push("on " + night.words[machine]);
  return parts.join(", ");
}

// Players.
let playing = 0;
for (const figure of document.querySelectorAll(".book")) {
  const book = night.books[Number(figure.dataset.book)];
  const find = (name) => figure.querySelector(name);
  const canvas = find("canvas"), seek = find(".seek"), play = find(".play"), now = find(".now");
  const context = canvas.getContext("2d");
  const name = canvas.getAttribute("aria-label");
  const images = new Map();
  let pass = 0, at = 0, timer = null, last = 0;

  const image = (text) => {
    if (!images.has(text)) {
      const picture = new Image();
      picture.src = "data:image/jpeg;base64," + text;
      picture.addEventListener("load", draw);
      images.set(text, picture);
    }
    return images.get(text);
  };
  const put = (text, alpha) => {
    const picture = image(text);
    if (!picture.complete || picture.naturalWidth === 0) return;
    context.globalAlpha = alpha;
    context.drawImage(picture, 0, 0, canvas.width, canvas.height);
    context.globalAlpha = 1;
  };
  function draw() {
    const { size, leaves } = book.passes[pass];
    const [frame, picture, state, before] = leaves[at];
    if (canvas.width !== size[0] || canvas.height !== size[1]) [canvas.width, canvas.height] = size;
    context.fillStyle = "#202226";
    context.fillRect(0, 0, canvas.width, canvas.height);
    if (picture) {
      put(picture, 1);
    } else {
      context.strokeStyle = "#a4abb8";
      for (let x = -canvas.height; x < canvas.width; x += 14) {
        context.beginPath();
        context.moveTo(x, canvas.height);
        context.lineTo(x + canvas.height, 0);
        context.stroke();
      }
    }
    const onion = find(".onion");
    if (before && onion && onion.checked) put(before, 0.5);
    if (state) {
      context.font = "bold 16px sans-serif";
      context.lineWidth = 3;
      context.strokeStyle = "#000000";
      context.strokeText(state, 8, 22);
      context.fillStyle = "#ffd54f";
      context.fillText(state, 8, 22);
    }
    const text = "frame " + frame + (state ? ", " + state : "");
    if (seek.value !== String(at)) seek.value = String(at);
    now.textContent = text;
    seek.setAttribute("aria-valuetext", text);
    canvas.setAttribute("aria-label", name + ", " + text);
  }
  const go = (next) => {
    const count = book.passes[pass].leaves.length;
    at = ((next % count) + count) % count;
    draw();
  };
  const stop = () => {
    if (timer === null) return;
    cancelAnimationFrame(timer);
    timer = null;
    playing -= 1;
    play.textContent = "Play";
    play.setAttribute("aria-pressed", "false");
  };
  const tick = (time) => {
    const pause = 1000 / (book.fps * Number(find(".speed").value));
    if (time - last >= pause) {
      // What a slow screen does not show is left out, so that the speed stays.
      const steps = last === 0 ? 1 : Math.max(1, Math.floor((time - last) / pause));
      last = time;
      go(at + steps);
    }
    timer = requestAnimationFrame(tick);
  };
  const start = () => {
    last = 0;
    playing += 1;
    play.textContent = "Pause";
    play.setAttribute("aria-pressed", "true");
    timer = requestAnimationFrame(tick);
  };
  const toggle = () => { if (timer === null) start(); else stop(); };
  const step = (by) => { stop(); go(at + by); };
  play.addEventListener("click", toggle);
  find(".back").addEventListener("click", () => step(-1));
  find(".forth").addEventListener("click", () => step(1));
  seek.addEventListener("input", () => { stop(); go(Number(seek.value)); });
  const choose = find(".pass"), onion = find(".onion");
  if (onion) onion.addEventListener("change", draw);
  if (choose) choose.addEventListener("change", () => {
    // The same frame of the other pass, where there is one.
    const frame = book.passes[pass].leaves[at][0];
    pass = Number(choose.value);
    const leaves = book.passes[pass].leaves;
    seek.max = String(leaves.length - 1);
    go(Math.max(0, leaves.findIndex((leaf) => leaf[0] === frame)));
  });
  figure.addEventListener("keydown", (event) => {
    const own = event.target;
    if (own.matches("select, input[type=checkbox]") || (own.matches("button") && event.key === " ")) return;
    const count = book.passes[pass].leaves.length;
    const keys = {
      " ": toggle, ArrowLeft: () => step(-1), ArrowRight: () => step(1),
      Home: () => step(-at), End: () => step(count - 1 - at),
    };
    if (!(event.key in keys)) return;
    event.preventDefault();
    keys[event.key]();
  });
  draw();
}

// Lines to copy; where the browser does not let a page copy, the line is marked.
for (const button of document.querySelectorAll(".copy")) {
  button.addEventListener("click", () => {
    const code = button.parentElement.querySelector("code");
    const marked = () => {
      const range = document.createRange();
      range.selectNodeContents(code);
      const selection = getSelection();
      selection.removeAllRanges();
      selection.addRange(range);
      button.textContent = document.execCommand("copy") ? "Copied" : "Marked";
    };
    if (navigator.clipboard) {
      navigator.clipboard.writeText(code.textContent).then(() => { button.textContent = "Copied"; }, marked);
    } else {
      marked();
    }
  });
}

// While renderers work, the page looks again when nobody is busy with it.
if (night.underWay) {
  setInterval(() => {
    const moving = [...document.querySelectorAll("video")].some((video) => !video.paused);
    if (playing === 0 && !moving && Date.now() - touched > 30000) location.reload();
  }, 60000);
}
