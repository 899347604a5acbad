// The page that is shown while the server cannot be reached. Everything else comes from the server, always: nothing of a customer's is kept here.
const KEPT = 'offline-1'
const FILES = ['/offline.html', '/offline.css', '/icon.svg']

self.addEventListener('install', (event) => {
  event.waitUntil(caches.open(KEPT).then((kept) => kept.addAll(FILES)).then(() => self.skipWaiting()))
})
self.addEventListener('activate', (event) => {
  const forget = async () => {
    for (const name of await caches.keys()) if (name !== KEPT) await caches.delete(name)
    await self.clients.claim()
  }
  event.waitUntil(forget())
})
self.addEventListener('fetch', (event) => {
  const { request } = event
  const path = new URL(request.url).pathname
  if (request.mode === 'navigate') event.respondWith(fetch(request).catch(() => caches.match('/offline.html')))
  else if (FILES.includes(path)) event.respondWith(fetch(request).catch(() => caches.match(path)))
})
