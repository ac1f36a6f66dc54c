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
