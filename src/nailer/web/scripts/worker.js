// Says that Nailer cannot be reached where a page is asked for and no answer comes. It keeps nothing else.
const KEPT = "nailer-offline";
const PAGE = "/offline";

self.addEventListener("install", (event) => {
  event.waitUntil(caches.open(KEPT).then((kept) => kept.add(new Request(PAGE, { cache: "reload" }))));
  self.skipWaiting();
});

self.addEventListener("activate", (event) => event.waitUntil(self.clients.claim()));

self.addEventListener("fetch", (event) => {
  if (event.request.mode !== "navigate") return;
  event.respondWith(fetch(event.request).catch(() => caches.match(PAGE)));
});
