// What is open, chosen, sent or counting; everything else is worked out on the server.
document.addEventListener("alpine:init", () => {
  // Photos chosen, dropped or pasted; sent with progress, and sent again where the connection was lost.
  Alpine.data("photoDrop", () => ({
    busy: false,
    plain: false,
    button: "Read this photo",
    status: "",
    init() {
      for (const field of this.$el.querySelectorAll("[data-drop]")) {
        const input = field.querySelector("input[type=file]");
        for (const [name, over] of [["dragover", true], ["dragenter", true], ["dragleave", false], ["drop", false]])
          field.addEventListener(name, (event) => { event.preventDefault(); field.classList.toggle("over", over); });
        field.addEventListener("drop", (event) => this.put(input, event.dataTransfer.files));
        input.addEventListener("change", () => this.chosen(field, input));
      }
      addEventListener("paste", (event) => {
        if (event.clipboardData.files.length) this.put(this.$el.querySelector("input[type=file]"), event.clipboardData.files);
      });
    },
    put(input, files) {
      if (!files.length || this.busy) return;
      const few = new DataTransfer();
      for (const file of input.multiple ? files : [files[0]]) few.items.add(file);
      input.files = few.files;
      input.dispatchEvent(new Event("change"));
    },
    chosen(field, input) {
      const says = field.querySelector("[data-says]"), picture = field.querySelector("[data-preview]");
      says.dataset.first ??= says.textContent;
      const files = [...input.files];
      says.textContent = files.length > 1 ? `${files.length} photos` : files.length ? files[0].name : says.dataset.first;
      if (picture.src) URL.revokeObjectURL(picture.src);
      picture.hidden = !files.length;
      if (files.length) picture.src = URL.createObjectURL(files[0]);
      const large = files.find((file) => file.size > 40e6);
      this.status = large ? `${large.name} has more than 40 MB. Save it as JPEG and send that.` : "";
      if (this.$root.dataset.atOnce && files.length && !large) this.$root.requestSubmit();
    },
    sending(event) {
      event.preventDefault();
      if (this.busy) return;
      if (![...this.$root.querySelectorAll("input[type=file]")].some((input) => input.files.length)) {
        this.status = "No photo was chosen yet.";
        return;
      }
      this.busy = true;
      this.send(0);
    },
    send(tries) {
      const request = new XMLHttpRequest(), bar = this.$refs.bar;
      this.button = "Sending it";
      this.status = "";
      request.open("POST", this.$root.action);
      request.upload.onprogress = (event) => { if (event.lengthComputable) bar.value = event.loaded / event.total; };
      request.upload.onload = () => { bar.removeAttribute("value"); this.button = "Kept; reading it"; this.status = "The photo is kept. Reading takes a moment."; };
      request.onload = () => {
        if (request.status < 400) return location.assign(request.responseURL);
        const page = new DOMParser().parseFromString(request.responseText, "text/html");
        this.stop((page.querySelector("[data-told]") || page.body).textContent.trim().slice(0, 300));
      };
      request.onerror = () => {
        if (tries >= 5) return this.stop("The connection was lost. The photo is still chosen here: send it again when the network is back.");
        this.status = "The connection was lost. It is sent again by itself.";
        setTimeout(() => this.send(tries + 1), 800 * 2 ** tries);
      };
      request.send(new FormData(this.$root));
    },
    stop(told) { this.busy = false; this.button = "Read this photo"; this.status = told; },
  }));
  // Ticks that stay are kept as they are set.
  Alpine.data("ticks", () => ({
    plain: false,
    keep() { fetch(this.$root.action, { method: "POST", body: new URLSearchParams(new FormData(this.$root)) }); },
  }));
  // The desk waits for the phone that it showed a code to.
  Alpine.data("pair", () => ({
    says: "Point its camera at the code: it opens a page for this one sheet, for a quarter of an hour.",
    init() {
      const secret = this.$root.dataset.secret;
      const news = listen(secret, (now) => {
        if (now.state === "open") this.says = "The phone is here. Take the photo.";
        if (now.state === "reading") this.says = "The photo came in and is kept. Reading it.";
        if (now.state === "over") this.says = "This code has run out. Reload the page for a new one.";
        if (now.sheet) { sessionStorage.pair = secret; news.close(); location.assign(`/sheets/${now.sheet}`); }
      });
    },
  }));
  // A sheet that a phone sent: a further or better photo of it comes up by itself.
  Alpine.data("follow", () => ({
    init() {
      const secret = sessionStorage.pair, here = this.$root.dataset.sheet;
      if (!secret) return;
      let first = "";
      listen(secret, (now) => {
        if (now.state === "over") return delete sessionStorage.pair;
        if (now.state === "reading") return;
        if (String(now.sheet) !== here) { if (first) location.assign(`/sheets/${now.sheet}`); first ||= now.mark; return; }
        if (first && now.mark !== first) location.reload();
        first = now.mark;
      });
    },
  }));
  Alpine.data("phone", () => ({
    init() {
      const mark = this.$root.dataset.mark;
      listen(this.$root.dataset.secret, (now) => { if (now.state === "accepted" && now.mark !== mark) location.reload(); });
    },
  }));
  // One key does what a button or a link on the page does.
  Alpine.data("keys", () => ({
    press(event) {
      if (event.ctrlKey || event.metaKey || event.altKey || event.target.closest("input,select,textarea")) return;
      const found = document.querySelector(`[data-key="${CSS.escape(event.key.toLowerCase())}"]`);
      if (found) { event.preventDefault(); found.click(); }
    },
  }));
  Alpine.data("countdown", () => ({
    left: "",
    ask: "Notification" in window && Notification.permission === "default",
    tell() { Notification.requestPermission().then(() => { this.ask = false; }); },
    init() {
      const until = Date.parse(this.$el.dataset.until);
      const tick = () => {
        const seconds = Math.max(0, Math.round((until - Date.now()) / 1000));
        if (seconds === 0) {
          if ("Notification" in window && Notification.permission === "granted") new Notification(this.$el.dataset.over || "The wait is over.");
          return location.reload();
        }
        const h = Math.floor(seconds / 3600), m = Math.floor((seconds % 3600) / 60), s = seconds % 60;
        this.left = h ? `${h} h ${m} min left` : m ? `${m} min ${s} s left` : `${s} s left`;
      };
      tick();
      setInterval(tick, 1000);
    },
  }));
});
function listen(secret, hear) {
  const news = new EventSource(`/phone/${secret}/events`);
  news.addEventListener("state", (event) => { const now = JSON.parse(event.data); if (now.state === "over") news.close(); hear(now); });
  return news;
}
// A page brought back by the browser's own Back button must not stay "busy".
addEventListener("pageshow", (event) => { if (event.persisted) location.reload(); });
