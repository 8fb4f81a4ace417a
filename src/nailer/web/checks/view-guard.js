// Runs before any script of a page that is shown from both sides: what a policy cannot forbid everywhere is taken away.
// Connections between browsers (WebRTC) obey no connect-src. A frame with a text of its own (srcdoc) would bring them back.
(() => {
  for (const name of ["RTCPeerConnection", "webkitRTCPeerConnection", "mozRTCPeerConnection"]) {
    Object.defineProperty(window, name, { value: undefined, configurable: false, writable: false });
  }
  const plain = (text) => {
    const open = text.lastIndexOf("<") > text.lastIndexOf(">");
    return open ? "" : text.replace(/srcdoc/gi, "srcd0c");
  };
  window.trustedTypes?.createPolicy("default", {
    createHTML: (text, _type, sink) => (/srcdoc/i.test(sink ?? "") ? "" : plain(String(text))),
    createScript: (text) => String(text),
    createScriptURL: (text) => String(text),
  });
  document.currentScript.remove();
})();
