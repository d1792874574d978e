// A video beside the traces: the file stays in the browser; only how it lines up, and marks, are kept.
const SPEEDS = [0.125, 0.25, 0.5, 1, 1.5, 2];
const ERRORS = {
  1: "Loading was stopped.",
  2: "The file could not be read: is the card or phone still connected?",
  3: "This browser cannot decode the video: convert it to WebM or MP4, then choose it again.",
  4: "This browser cannot play this kind of file: convert it to WebM or MP4, then choose it again.",
};

export class VideoSide {
  // on: moved(x) while the picture moves, show(x) to bring a moment into view, moment() the moment that is meant, marked() after a change
  constructor(box, page, on) {
    Object.assign(this, { box, page, on, line: null, pairs: [], frame_s: 1 / 30, varies: false, wanted: null, pointed: null });
    this.part = (name) => box.querySelector(`[data-part=${name}]`);
    this.player = this.part("player");
    this.part("file").addEventListener("change", (event) => this.open(event.target.files[0]));
    this.press("play", () => (this.player.paused ? this.player.play().catch(() => {}) : this.player.pause()));
    this.press("back", () => this.step(-1));
    this.press("on", () => this.step(1));
    this.press("pair", () => this.pick());
    this.press("again", () => this.forget());
    this.part("speed").addEventListener("change", (event) => { this.player.playbackRate = SPEEDS.includes(Number(event.target.value)) ? Number(event.target.value) : 1; });
    this.part("mark").addEventListener("submit", (event) => { event.preventDefault(); this.mark(); });
    for (const name of ["play", "pause", "ended"]) this.player.addEventListener(name, () => this.tell());
    this.player.addEventListener("error", () => this.fail(ERRORS[this.player.error?.code] ?? ERRORS[4]));
    this.player.addEventListener("loadedmetadata", () => this.ready());
    this.player.addEventListener("seeked", () => this.seeked());
    this.player.addEventListener("timeupdate", () => this.follow());
    this.watchFrames();
    this.marks();
  }

  press(name, action) { this.part(name).addEventListener("click", action); }

  // --- the file

  open(file) {
    if (!file) return;
    this.file = file;
    if (this.address) URL.revokeObjectURL(this.address);
    this.address = URL.createObjectURL(file);
    this.player.src = this.address;
    this.part("error").hidden = true;
    const { name, size, lastModified } = file;
    const known = this.page.videos.find((one) => one.name === name && one.size === size && one.modified === lastModified);
    this.pairs = known ? known.pairs : [];
    this.line = known ?? null;
    this.part("watch").hidden = false;
    this.tell();
  }

  fail(words) {
    this.part("error").hidden = false;
    this.part("error").textContent = `${words} Nothing was uploaded.`;
    this.part("watch").hidden = true;
  }

  ready() {
    if (!this.player.videoWidth) return this.fail("This file has no picture: choose a video.");
    this.box.dataset.ready = "1";
    this.tell();
    if (this.line) this.seek(this.on.moment());
  }

  // --- the clocks

  log(video_s) { return this.line ? this.line.offset + this.line.rate * video_s : null; }
  video(log_s) { return this.line ? (log_s - this.line.offset) / this.line.rate : null; }

  async pick() {
    const pair = [this.player.currentTime, this.on.moment()];
    const pairs = [...this.pairs, pair].slice(-2);
    const { name, size, lastModified } = this.file;
    const found = await this.send(this.box.dataset.sync, { name, size, modified: lastModified, pairs });
    if (!found) return;
    this.pairs = pairs;
    this.line = found;
    this.page.videos = [...this.page.videos.filter((one) => one.name !== name || one.size !== size), found];
    this.follow();
  }

  forget() { this.pairs = []; this.line = null; this.tell(); }

  async send(to, document) {
    const answer = await fetch(to, { method: "POST", headers: { "X-CSRFToken": this.box.dataset.token, "Content-Type": "application/json" }, body: JSON.stringify(document) }).catch(() => null);
    const said = answer ? await answer.json().catch(() => ({ error: "Nembrit answered with an error" })) : { error: "Nembrit does not respond" };
    this.part("said").textContent = said.error ? `Not saved: ${said.error}.` : "";
    return answer?.ok ? said : null;
  }

  // --- moving together

  // a moment of the log, as the cursor points at it: the picture follows, one seek at a time
  cursor(log_s) {
    if (log_s == null || !this.line || !this.player.paused) return;
    // where the picture itself put the cursor, to the pixel, is no wish to seek
    if (this.pointed != null && Math.abs(log_s - this.pointed) < 1.5 * this.on.pixel_s()) return;
    this.seek(log_s);
  }

  seek(log_s) {
    const to = this.video(log_s);
    if (to == null || !this.player.duration || to < 0 || to > this.player.duration) return;
    if (this.player.seeking) { this.wanted = to; return; }
    this.player.currentTime = to;
  }

  seeked() {
    if (this.wanted != null) { const to = this.wanted; this.wanted = null; this.player.currentTime = to; return; }
    this.follow();
  }

  follow() {
    const x = this.log(this.player.currentTime);
    this.tell();
    if (x == null) return;
    this.pointed = x;
    this.box.dataset.at = x.toFixed(3);
    this.on.moved(x);
  }

  step(way) {
    this.player.pause();
    const frame = Math.floor(this.player.currentTime / this.frame_s + 1e-6) + way;
    this.player.currentTime = Math.max(0, Math.min(this.player.duration || 0, (frame + 0.5) * this.frame_s));
  }

  // how long a frame lasts, from the frames themselves
  watchFrames() {
    if (!this.player.requestVideoFrameCallback) return;
    const gaps = [];
    let before = null;
    const next = (_, { mediaTime }) => {
      const gap = before == null ? 0 : mediaTime - before;
      before = mediaTime;
      if (!this.player.paused && gap > 0.002 && gap < 0.2) {
        gaps.push(gap);
        if (gaps.length > 60) gaps.shift();
        const sorted = [...gaps].sort((a, b) => a - b), at = (share) => sorted[Math.floor(share * (sorted.length - 1))];
        this.frame_s = at(0.5);
        this.varies = gaps.length >= 20 && at(0.9) > 1.5 * at(0.1);
      }
      if (!this.player.paused) this.follow();
      this.player.requestVideoFrameCallback(next);
    };
    this.player.requestVideoFrameCallback(next);
  }

  // --- marks

  async mark() {
    const x = this.log(this.player.currentTime) ?? this.on.moment(), field = this.part("note");
    const found = await this.send(this.box.dataset.mark, { at: x, text: field.value });
    if (!found) return;
    field.value = "";
    this.page.marks.push(found);
    this.page.marks.sort((one, other) => one.at - other.at);
    this.marks();
    this.on.marked();
  }

  marks() {
    const rows = this.page.marks.map((mark, k) => {
      const row = document.createElement("li");
      const show = Object.assign(document.createElement("button"), { type: "button", className: "button is-small", textContent: `m${k + 1}, ${mark.at.toFixed(2)} s` });
      show.addEventListener("click", () => this.on.show(mark.at));
      const away = Object.assign(document.createElement("button"), { type: "button", className: "button is-small", textContent: "Remove" });
      away.setAttribute("aria-label", `Remove mark m${k + 1}: ${mark.label}`);
      away.addEventListener("click", async () => {
        if (!(await this.send(this.box.dataset.mark, { remove: mark.id }))) return;
        this.page.marks.splice(this.page.marks.indexOf(mark), 1);
        this.marks();
        this.on.marked();
      });
      row.append(show, ` ${mark.label} `, away);
      return row;
    });
    this.part("marks").replaceChildren(...rows);
  }

  tell() {
    this.part("play").textContent = this.player.paused ? "Play" : "Pause";
    const x = this.log(this.player.currentTime), shown = `video ${this.player.currentTime.toFixed(2)} s`;
    this.part("time").textContent = x == null ? shown : `${shown} · log ${x.toFixed(2)} s`;
    const left = this.pairs.length === 1 ? " A second moment, far from the first, takes out a clock that runs off." : "";
    this.part("state").textContent = !this.line
      ? "Stop at a moment that you also see in the traces, such as the first throttle. Set cursor A there, then press “This is cursor A”."
      : `Lined up by ${this.pairs.length} moment${this.pairs.length === 1 ? "" : "s"}, ± ${this.line.error.toFixed(2)} s.${left}${this.varies ? " The frame rate varies: single steps are rough." : ""}`;
    this.part("again").hidden = !this.line;
  }
}
