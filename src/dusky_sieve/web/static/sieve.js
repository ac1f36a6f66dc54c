// What is open, chosen or counting; everything else is worked out on the server.
document.addEventListener("alpine:init", () => {
  Alpine.data("photoDrop", () => ({
    preview: "",
    busy: false,
    over: "",
    says: "Choose the photo",
    button: "Read this photo",
    status: "",
    enter() { this.over = "over"; },
    leave() { this.over = ""; },
    take(event) {
      this.over = "";
      if (!event.dataTransfer.files.length) return;
      this.$refs.file.files = event.dataTransfer.files;
      this.chosen();
    },
    chosen() {
      const file = this.$refs.file.files[0];
      if (this.preview) URL.revokeObjectURL(this.preview);
      this.preview = file ? URL.createObjectURL(file) : "";
      this.says = file ? file.name : "Choose the photo";
      this.status = file && file.size > 40e6 ? "This photo has more than 40 MB. Save it as JPEG and send that." : "";
    },
    sending() {
      this.busy = true;
      this.button = "Keeping and reading it";
      this.status = "The photo is kept first, then read. This takes a few seconds.";
    },
  }));
  // One key sets the mark under the loupe; n goes to the next.
  Alpine.data("keys", () => ({
    press(event) {
      if (event.ctrlKey || event.metaKey || event.altKey || event.target.closest("input,select,textarea")) return;
      const found = document.querySelector(`[data-key="${CSS.escape(event.key.toLowerCase())}"]`);
      if (found) { event.preventDefault(); found.click(); }
    },
  }));
  // Four corners marked on the photo, kept in the photo's own pixels.
  Alpine.data("corners", () => ({
    marked: [],
    says: "Click the pattern's own top left corner, as it was printed, then the others clockwise.",
    mark(event) {
      if (this.marked.length === 4) return;
      const photo = this.$refs.photo, box = photo.getBoundingClientRect();
      const x = (event.clientX - box.left) / box.width, y = (event.clientY - box.top) / box.height;
      this.marked.push([Math.round(x * photo.naturalWidth), Math.round(y * photo.naturalHeight)]);
      this.draw();
    },
    clear() { this.marked = []; this.draw(); },
    draw() {
      const photo = this.$refs.photo, names = ["top left", "top right", "bottom right", "bottom left"];
      this.$refs.pins.setAttribute("viewBox", `0 0 ${photo.naturalWidth} ${photo.naturalHeight}`);
      const line = this.marked.map((p) => p.join(",")).join(" ");
      const radius = photo.naturalWidth / 130;
      this.$refs.pins.innerHTML = `<polygon points="${line}"/>` + this.marked.map((p) => `<circle cx="${p[0]}" cy="${p[1]}" r="${radius}"/>`).join("");
      this.$refs.points.value = line;
      this.says = this.marked.length === 4 ? "Four corners marked. Read it from these, or start over." : `Now the ${names[this.marked.length]} corner.`;
    },
  }));
  Alpine.data("countdown", () => ({
    left: "",
    init() {
      const until = Date.parse(this.$el.dataset.until);
      const tick = () => {
        const seconds = Math.max(0, Math.round((until - Date.now()) / 1000));
        if (seconds === 0) return location.reload();
        const h = Math.floor(seconds / 3600), m = Math.floor((seconds % 3600) / 60), s = seconds % 60;
        this.left = h ? `${h} h ${m} min left` : m ? `${m} min ${s} s left` : `${s} s left`;
      };
      tick();
      setInterval(tick, 1000);
    },
  }));
});
// A page brought back by the browser's own Back button must not stay "busy".
addEventListener("pageshow", (event) => { if (event.persisted) location.reload(); });
