// Boxes drawn round the colour blocks on the photo of a good sheet; each fills a row of the channels below.
document.addEventListener("alpine:init", () => {
  Alpine.data("teach", () => ({
    says: "",
    init() {
      for (const input of this.$root.querySelectorAll("[data-side]")) input.addEventListener("change", () => this.show(input));
    },
    rows() { return [...this.$root.querySelectorAll("[data-block]")]; },
    field(row, name) { return row.querySelector(`[name="${name}"]`); },
    show(input) {
      const side = input.dataset.side, old = this.$refs.drawings.querySelector(`[data-drawing="${side}"]`);
      if (old) old.remove();
      if (!input.files.length) return;
      const figure = document.createElement("figure"), picture = new Image(), net = document.createElementNS("http://www.w3.org/2000/svg", "svg");
      figure.className = "lit plain good-sheet";
      figure.dataset.drawing = side;
      picture.alt = `The good sheet over ${side === "dark" ? "black" : "white"}: draw a box round each colour block`;
      net.setAttribute("viewBox", "0 0 1 1");
      net.setAttribute("preserveAspectRatio", "none");
      const box = document.createElement("div");
      box.className = "pin-box";
      box.append(picture, net);
      figure.append(box);
      picture.onload = () => { this.says = "Draw a box round each colour block. Every box takes the next empty row: name its channel and its nozzle count."; this.redraw(); };
      picture.onerror = () => { figure.remove(); this.says = "This browser cannot show that photo. It can still be sent: fill the rows in reading order."; };
      picture.src = URL.createObjectURL(input.files[0]);
      let from = null;
      const at = (event) => { const r = picture.getBoundingClientRect(); return [(event.clientX - r.left) / r.width, (event.clientY - r.top) / r.height].map((v) => Math.min(1, Math.max(0, v))); };
      picture.addEventListener("dragstart", (event) => event.preventDefault());
      picture.addEventListener("pointerdown", (event) => { from = at(event); picture.setPointerCapture(event.pointerId); });
      picture.addEventListener("pointermove", (event) => { if (from) this.redraw(side, [...from, ...at(event)]); });
      picture.addEventListener("pointerup", (event) => {
        const to = at(event), first = from;
        from = null;
        if (first && Math.abs(to[0] - first[0]) > 0.01 && Math.abs(to[1] - first[1]) > 0.01) this.take(side, [...first, ...to], picture);
        this.redraw();
      });
      this.$refs.drawings.append(figure);
    },
    take(side, box, picture) {
      let row = this.rows().find((r) => !this.field(r, "box").value && !this.field(r, "channel").value) || this.rows().find((r) => !this.field(r, "box").value);
      if (!row) {
        row = this.rows()[0].cloneNode(true);
        row.querySelectorAll("input").forEach((input) => { input.value = input.type === "color" ? "#202020" : ""; });
        this.rows().at(-1).after(row);
      }
      this.field(row, "box").value = box.map((v) => v.toFixed(4)).join(",");
      this.field(row, "backing").value = side;
      this.field(row, "ink").value = this.ink(box, picture, side);
      this.field(row, "channel").focus();
      this.field(row, "channel").scrollIntoView({ block: "nearest" });
    },
    ink(box, picture, side) {  // the strongest tenth of what stands out from the paper in the box
      const canvas = document.createElement("canvas"), [x, y] = [Math.min(box[0], box[2]), Math.min(box[1], box[3])];
      const w = Math.abs(box[2] - box[0]) * picture.naturalWidth, h = Math.abs(box[3] - box[1]) * picture.naturalHeight, scale = Math.min(1, 600 / Math.max(w, h));
      canvas.width = Math.max(1, w * scale); canvas.height = Math.max(1, h * scale);
      const pen = canvas.getContext("2d");
      pen.drawImage(picture, x * picture.naturalWidth, y * picture.naturalHeight, w, h, 0, 0, canvas.width, canvas.height);
      const data = pen.getImageData(0, 0, canvas.width, canvas.height).data, seen = [];
      for (let k = 0; k < data.length; k += 4) seen.push([data[k], data[k + 1], data[k + 2]]);
      const least = (c) => (side === "dark" ? -Math.max(...c) : Math.min(...c));
      seen.sort((a, b) => least(a) - least(b));
      const few = seen.slice(0, Math.max(1, Math.floor(seen.length / 12)));
      return "#" + [0, 1, 2].map((k) => Math.round(few.reduce((sum, c) => sum + c[k], 0) / few.length).toString(16).padStart(2, "0")).join("");
    },
    redraw(side, open) {
      for (const figure of this.$refs.drawings.children) {
        const net = figure.querySelector("svg"), boxes = [];
        this.rows().forEach((row, k) => {
          const value = this.field(row, "box").value;
          if (value && this.field(row, "backing").value === figure.dataset.drawing) boxes.push([...value.split(",").map(Number), k + 1]);
        });
        if (open && side === figure.dataset.drawing) boxes.push([...open, ""]);
        net.innerHTML = boxes.map(([a, b, c, d]) => `<rect x="${Math.min(a, c)}" y="${Math.min(b, d)}" width="${Math.abs(c - a)}" height="${Math.abs(d - b)}"/>`).join("");
        figure.querySelectorAll(".box-no").forEach((label) => label.remove());
        for (const [a, b, c, d, n] of boxes) {
          if (!n) continue;
          const label = document.createElement("span");
          label.className = "box-no";
          label.textContent = n;
          Object.assign(label.style, { left: `${Math.min(a, c) * 100}%`, top: `${Math.min(b, d) * 100}%` });
          figure.querySelector(".pin-box").append(label);
        }
      }
    },
  }));
});
