// Windows that show one sitting follow each other: what was changed in one, the others ask for anew.
const CHANGED = "changed-sitting";
// Several changes in a row are one.
const SETTLED_MS = 300;

const shown = () => window.location.pathname.match(/^\/sittings\/\d+\//)?.[0] ?? null;

// ``busy`` tells whether a form is being filled in here: then the page stays as it is.
export function startWindows(busy) {
  const channel = new BroadcastChannel("yellowjacket");
  let due;
  channel.addEventListener("message", (event) => {
    // The Shoot page follows by itself.
    if (event.data !== shown() || document.getElementById("live") || document.querySelector("dialog[open]")) return;
    window.clearTimeout(due);
    due = window.setTimeout(() => { if (!busy()) window.location.reload(); }, SETTLED_MS);
  });
  const tell = (sitting) => { if (sitting) channel.postMessage(sitting); };
  document.addEventListener("htmx:afterRequest", (event) => {
    if (event.detail.successful && event.detail.requestConfig.verb !== "get") tell(shown());
  });
  // A form that leads to another page has done its work when that is here.
  document.addEventListener("submit", (event) => {
    if (event.target.method === "post" && shown()) window.sessionStorage.setItem(CHANGED, shown());
  });
  tell(window.sessionStorage.getItem(CHANGED));
  window.sessionStorage.removeItem(CHANGED);
}
