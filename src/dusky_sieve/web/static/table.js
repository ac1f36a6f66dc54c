// The light table: size and place of the sheet, the sheet before under it, a box drawn over marks, corners by hand.
document.addEventListener("alpine:init", () => {
  const LARGEST = 12, STEP = 1.4;
  Alpine.data("stage", () => ({
    ready: true,
    size: "1×",
    zoom: 1, x: 0, y: 0,
    divided: false, blinking: false, drawing: false, boxed: false,
    down: new Map(), moved: false, start: null, asked: 0,
    init() {
      const stage = this.$refs.stage;
      stage.addEventListener("wheel", (event) => {
        if (!event.ctrlKey && this.zoom === 1 && event.deltaY > 0) return;  // the page scrolls on where there is nothing to make smaller
        event.preventDefault();
        this.scale(Math.exp(-event.deltaY / 400), event);
      }, { passive: false });
      stage.addEventListener("pointerdown", (event) => this.press(event));
      stage.addEventListener("pointermove", (event) => this.move(event));
      for (const name of ["pointerup", "pointercancel"]) stage.addEventListener(name, (event) => this.lift(event));
      stage.addEventListener("click", (event) => { if (this.moved) { event.preventDefault(); event.stopPropagation(); this.moved = false; } }, true);
      stage.addEventListener("dragstart", (event) => event.preventDefault());
      stage.addEventListener("keydown", (event) => this.key(event));
      if (this.$refs.cut) this.$refs.cut.addEventListener("input", () => this.cut());
      if (this.$refs.hold) {
        const hold = this.$refs.hold;
        hold.addEventListener("pointerdown", () => this.through(true));
        for (const name of ["pointerup", "pointerleave", "pointercancel", "blur"]) hold.addEventListener(name, () => this.through(false));
        const b = (on) => (event) => { if (event.key.toLowerCase() === "b" && !event.repeat && !event.target.closest("input,textarea,select")) this.through(on); };
        addEventListener("keydown", b(true));
        addEventListener("keyup", b(false));
      }
    },
    // size and place
    key(event) {
      const by = { ArrowLeft: [60, 0], ArrowRight: [-60, 0], ArrowUp: [0, 60], ArrowDown: [0, -60] }[event.key];
      if (by && this.zoom > 1) { event.preventDefault(); this.x += by[0]; this.y += by[1]; this.place(); }
      if (event.key === "+" || event.key === "=") this.larger();
      if (event.key === "-") this.smaller();
      if (event.key === "0") this.fit();
      if (event.key === "Escape" && this.drawing) this.draw();
    },
    larger() { this.scale(STEP); },
    smaller() { this.scale(1 / STEP); },
    fit() { this.zoom = 1; this.x = this.y = 0; this.place(); },
    scale(by, about) {
      const box = this.$refs.stage.getBoundingClientRect();
      const cx = about ? about.clientX - box.left : box.width / 2, cy = about ? about.clientY - box.top : box.height / 2;
      const next = Math.min(LARGEST, Math.max(1, this.zoom * by)), real = next / this.zoom;
      this.x = cx - (cx - this.x) * real;
      this.y = cy - (cy - this.y) * real;
      this.zoom = next;
      this.place();
      const photo = this.$refs.photo;
      if (next > 1.3 && photo.dataset.full) {  // the finer picture, once somebody goes close
        const fine = new Image();
        fine.onload = () => { photo.src = fine.src; };
        fine.src = photo.dataset.full;
        delete photo.dataset.full;
      }
    },
    place() {
      const stage = this.$refs.stage, w = stage.clientWidth * (1 - this.zoom), h = stage.clientHeight * (1 - this.zoom);
      this.x = Math.min(0, Math.max(w, this.x));
      this.y = Math.min(0, Math.max(h, this.y));
      this.size = `${this.zoom < 10 ? this.zoom.toFixed(1).replace(".0", "") : Math.round(this.zoom)}×`;
      if (this.asked) return;
      this.asked = requestAnimationFrame(() => {
        this.asked = 0;
        const layer = this.$refs.layer;
        layer.classList.add("moving");  // one picture moved about; drawn sharp again once it rests
        clearTimeout(this.resting);
        this.resting = setTimeout(() => layer.classList.remove("moving"), 180);
        layer.style.transform = `translate(${this.x}px,${this.y}px) scale(${this.zoom})`;
        if (layer.dataset.zoom !== String(this.zoom)) { layer.dataset.zoom = this.zoom; layer.style.setProperty("--zoom", this.zoom); }
        stage.classList.toggle("close", this.zoom > 1);
      });
    },
    press(event) {
      if (event.button) return;
      this.down.set(event.pointerId, event);
      this.moved = false;
      this.start = { x: this.x, y: this.y, px: event.clientX, py: event.clientY };
      if (this.drawing) { this.from = this.mm(event); this.$refs.stage.setPointerCapture(event.pointerId); event.preventDefault(); }
    },
    move(event) {
      if (!this.down.has(event.pointerId)) return;
      const last = this.down.get(event.pointerId);
      this.down.set(event.pointerId, event);
      if (this.drawing) return this.stretch(this.mm(event));
      if (this.down.size === 2) {
        const other = [...this.down].find(([id]) => id !== event.pointerId)[1];
        const was = Math.hypot(last.clientX - other.clientX, last.clientY - other.clientY), is = Math.hypot(event.clientX - other.clientX, event.clientY - other.clientY);
        this.moved = true;
        if (was > 0) this.scale(is / was, { clientX: (event.clientX + other.clientX) / 2, clientY: (event.clientY + other.clientY) / 2 });
        this.start = { x: this.x, y: this.y, px: event.clientX, py: event.clientY };
        return;
      }
      const dx = event.clientX - this.start.px, dy = event.clientY - this.start.py;
      if (!this.moved && Math.hypot(dx, dy) < 5) return;
      if (this.zoom === 1) return;
      if (!this.moved) { this.moved = true; this.$refs.stage.setPointerCapture(event.pointerId); }
      this.x = this.start.x + dx;
      this.y = this.start.y + dy;
      this.place();
    },
    lift(event) {
      if (!this.down.delete(event.pointerId)) return;
      const rest = [...this.down.values()][0];
      if (rest) this.start = { x: this.x, y: this.y, px: rest.clientX, py: rest.clientY };
      if (this.drawing && this.from) {
        const to = this.mm(event);
        this.moved = true;
        if (Math.hypot(to[0] - this.from[0], to[1] - this.from[1]) > 0.3) {
          this.$refs.box.value = [...this.from, ...to].map((v) => v.toFixed(3)).join(",");
          this.boxed = true;
          this.$nextTick(() => document.querySelector(".boxed button").focus());
        }
        this.from = null;
      }
    },
    // the sheet before
    under() {
      const under = this.$refs.under;
      if (under && under.dataset.src) { under.src = under.dataset.src; delete under.dataset.src; }
      return under;
    },
    through(on) { const under = this.under(); if (under) under.classList.toggle("on", on); },
    divide() {
      this.divided = !this.divided;
      const under = this.under();
      under.classList.toggle("on", this.divided);
      this.cut();
    },
    cut() { this.under().style.clipPath = this.divided ? `inset(0 ${100 - this.$refs.cut.value}% 0 0)` : ""; },
    blink() {
      const under = this.under();
      if (matchMedia("(prefers-reduced-motion: reduce)").matches) return under.classList.toggle("on");
      this.blinking = !this.blinking;
      clearInterval(this.beat);
      under.classList.remove("on");
      if (this.blinking) this.beat = setInterval(() => under.classList.toggle("on"), 700);
    },
    // a box over marks, in mm of the sheet
    draw() {
      this.drawing = !this.drawing;
      this.boxed = false;
      this.$refs.stage.classList.toggle("drawing", this.drawing);
      this.stretch(null);
    },
    stretch(to) {
      const rect = this.$refs.rect, from = this.from;
      const box = to && from ? [Math.min(from[0], to[0]), Math.min(from[1], to[1]), Math.abs(from[0] - to[0]), Math.abs(from[1] - to[1])] : [0, 0, 0, 0];
      ["x", "y", "width", "height"].forEach((name, k) => rect.setAttribute(name, box[k]));
    },
    mm(event) {
      const [left, top, w, h] = this.$root.dataset.frame.split(",").map(Number);
      const box = this.$refs.layer.getBoundingClientRect(), scale = Math.min(box.width / w, box.height / h);
      return [left + (event.clientX - box.left - (box.width - w * scale) / 2) / scale, top + (event.clientY - box.top - (box.height - h * scale) / 2) / scale];
    },
  }));
  // Four corners marked on the photo, kept in the photo's own pixels, under a glass or by keys.
  Alpine.data("corners", () => ({
    marked: [],
    cross: null,
    says: "Click the pattern's own top left corner, as it was printed, then the others clockwise. With keys: arrows move the cross, Enter sets a corner.",
    init() {
      const photo = this.$refs.photo;
      photo.addEventListener("pointermove", (event) => this.look(this.pixel(event)));
      photo.addEventListener("pointerleave", () => { this.$refs.glass.classList.remove("on"); });
      photo.addEventListener("click", (event) => this.mark(this.pixel(event)));
      photo.addEventListener("keydown", (event) => {
        const by = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, -1], ArrowDown: [0, 1] }[event.key];
        if (!by && event.key !== "Enter" && event.key !== "Backspace") return;
        event.preventDefault();
        if (event.key === "Backspace") return this.back();
        this.cross ??= [photo.naturalWidth / 2, photo.naturalHeight / 2];
        if (!by) return this.mark(this.cross);
        const step = photo.naturalWidth * (event.shiftKey ? 0.02 : 0.002);
        this.look(this.cross.map((v, k) => Math.min(k ? photo.naturalHeight : photo.naturalWidth, Math.max(0, v + by[k] * step))));
      });
    },
    pixel(event) {
      const photo = this.$refs.photo, box = photo.getBoundingClientRect();
      return [(event.clientX - box.left) / box.width * photo.naturalWidth, (event.clientY - box.top) / box.height * photo.naturalHeight];
    },
    look(at) {
      const photo = this.$refs.photo, glass = this.$refs.glass, box = photo.getBoundingClientRect();
      const scale = box.width / photo.naturalWidth * 5, half = 70;
      this.cross = at;
      glass.classList.add("on");
      const x = at[0] / photo.naturalWidth * box.width, y = at[1] / photo.naturalHeight * box.height;
      Object.assign(glass.style, {
        left: `${x + (x > box.width / 2 ? -half * 2 - 24 : 24)}px`, top: `${Math.min(box.height - half * 2, Math.max(0, y - half))}px`,
        backgroundImage: `url("${photo.src}")`, backgroundSize: `${photo.naturalWidth * scale}px ${photo.naturalHeight * scale}px`,
        backgroundPosition: `${half - at[0] * scale}px ${half - at[1] * scale}px`,
      });
      this.draw();
    },
    mark(at) {
      if (this.marked.length === 4) return;
      this.marked.push(at.map(Math.round));
      this.draw();
    },
    back() { this.marked.pop(); this.draw(); },
    draw() {
      const photo = this.$refs.photo, names = ["top left", "top right", "bottom right", "bottom left"];
      this.$refs.pins.setAttribute("viewBox", `0 0 ${photo.naturalWidth} ${photo.naturalHeight}`);
      const line = this.marked.map((p) => p.join(",")).join(" "), radius = photo.naturalWidth / 130, [x, y] = this.cross || [-9, -9];
      this.$refs.pins.innerHTML = `<polygon points="${line}"/>` + this.marked.map((p) => `<circle cx="${p[0]}" cy="${p[1]}" r="${radius}"/>`).join("") + `<path d="M${x - radius} ${y}H${x + radius}M${x} ${y - radius}V${y + radius}"/>`;
      this.$refs.points.value = line;
      this.says = this.marked.length === 4 ? "Four corners marked. Read it from these, or take the last one back." : `Now the ${names[this.marked.length]} corner.`;
    },
  }));
  // Faults set by clicking holes of an empty mesh; the fields below say the same in numbers.
  Alpine.data("told", () => ({
    ready: true,
    init() {
      for (const box of this.$root.querySelectorAll("[data-row]")) {
        const mesh = box.querySelector("svg");
        if (!mesh) continue;
        mesh.addEventListener("click", (event) => this.hole(box, mesh, event));
        this.$root.addEventListener("input", () => this.show(box, mesh));
        this.show(box, mesh);
      }
    },
    field(box, state) { return this.$root.querySelector(`[name="${state}-${box.dataset.row}"]`); },
    numbers(text) {
      return new Set(text.split(/[,;\s]+/).filter(Boolean).flatMap((piece) => {
        const [a, b = a] = piece.split(/[-–]/).map(Number);
        return a >= 1 && b >= a && b - a < 5000 ? Array.from({ length: b - a + 1 }, (_, k) => a + k) : [];
      }));
    },
    hole(box, mesh, event) {
      const view = mesh.viewBox.baseVal, rect = mesh.getBoundingClientRect(), per = Number(mesh.dataset.row), all = Number(mesh.dataset.nozzles);
      const x = (event.clientX - rect.left) / rect.width * view.width, rows = Math.ceil(all / per);
      const row = Math.min(rows - 1, Math.floor((event.clientY - rect.top) / rect.height * rows));
      const n = row * per + Math.min(per, Math.max(1, Math.round((x - 6) / 6.7)));
      if (n > all) return;
      const pen = this.$root.querySelector("[name=pen]:checked").value, had = this.numbers(this.field(box, pen).value).has(n);
      for (const state of ["missing", "weak", "deflected"]) {
        const set = this.numbers(this.field(box, state).value);
        set.delete(n);
        if (state === pen && !had) set.add(n);
        this.field(box, state).value = [...set].sort((a, b) => a - b).join(", ");
      }
      this.show(box, mesh);
    },
    show(box, mesh) {
      mesh.querySelectorAll(".told-mark").forEach((mark) => mark.remove());
      const view = mesh.viewBox.baseVal, per = Number(mesh.dataset.row), all = Number(mesh.dataset.nozzles), height = view.height / Math.ceil(all / per);
      for (const state of ["missing", "weak", "deflected"]) {
        for (const n of this.numbers(this.field(box, state).value)) {
          if (n > all) continue;
          const row = Math.floor((n - 1) / per), first = row * per + 1, x = 6 + 6.7 * (n - first + 1), y = row * height + 14 + (n % 2 ? 10 : 20);
          const mark = document.createElementNS("http://www.w3.org/2000/svg", "path");
          mark.setAttribute("class", `told-mark ${state === "deflected" ? "tick" : "plug"}`);
          mark.setAttribute("d", state === "missing" ? `M${x - 6} ${y}L${x} ${y - 9}L${x + 6} ${y}L${x} ${y + 9}Z` : state === "weak" ? `M${x - 6} ${y}H${x + 6}L${x} ${y + 9}Z` : `M${x} ${y}h9m0 -4v8`);
          mesh.append(mark);
        }
      }
    },
  }));
});
