// One stream of events a page, heard only while the page is seen: browsers allow few open connections to one address.
const listeners = new Set();
let source = null;

function open() {
  if (source || document.hidden || !listeners.size) return;
  source = new EventSource("/events");
  source.onmessage = (message) => {
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
