// A page with data-watch looks each second whether it is still open to the person, and is loaded again where it is not.
(function () {
  "use strict";
  if (!document.querySelector("[data-watch]")) {
    return;
  }
  setInterval(async function () {
    try {
      var now = await fetch(location.href, { method: "HEAD", redirect: "manual", cache: "no-store" });
      if (!now.ok) {
        location.reload();
      }
    } catch (problem) {
      return; // the trial is gone, and the page stays as it was
    }
  }, 1000);
})();
// A form with data-key is sent once a key of the person has answered: one is made for "make", and one is asked for otherwise.
(function () {
  "use strict";
  var form = document.querySelector("form[data-key]");
  if (!form || !window.PublicKeyCredential || !PublicKeyCredential.parseRequestOptionsFromJSON) {
    return; // the page says that keys need a script
  }
  form.hidden = false;
  form.addEventListener("submit", async function (event) {
    event.preventDefault();
    try {
      var begun = await fetch(form.dataset.begin, { method: "POST", body: new URLSearchParams(new FormData(form)) });
      if (!begun.ok) {
        var kind = begun.headers.get("Content-Type") || "";
        throw new Error(kind.indexOf("text/plain") === 0 ? await begun.text() : "Load the page again.");
      }
      var options = (await begun.json()).publicKey;
      var made = form.dataset.key === "make"
        ? await navigator.credentials.create({ publicKey: PublicKeyCredential.parseCreationOptionsFromJSON(options) })
        : await navigator.credentials.get({ publicKey: PublicKeyCredential.parseRequestOptionsFromJSON(options) });
      form.elements.made.value = JSON.stringify(made.toJSON());
      form.submit();
    } catch (problem) {
      form.querySelector("[role=alert]").textContent = "That did not work. " + problem.message;
    }
  });
})();
