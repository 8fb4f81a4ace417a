// One stream of events a page, heard only while the page is seen: browsers allow few open connections to one address.
// It goes on from what the page has heard last, or from when it was asked for: nothing ends unheard.
const listeners = new Set();
let source = null,
  heard = document.querySelector('meta[name="live"]').content;

function open() {
  if (source || document.hidden || !listeners.size) return;
  source = new EventSource(`/events?since=${heard}`);
  source.onmessage = (message) => {
    heard = message.lastEventId;
    const event = JSON.parse(message.data);
    listeners.forEach((hear) => hear(event));
  };
}

function close() {
  source?.close();
  source = null;
}

document.addEventListener("visibilitychange", () => (document.hidden ? close() : open()));
addEventListener("pagehide", close);

export function subscribe(hear) {
  listeners.add(hear);
  open();
  return () => {
    listeners.delete(hear);
    if (!listeners.size) close();
  };
}
