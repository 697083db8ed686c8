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
      var begun = await fetch(form.action + "/begin", { method: "POST", body: new URLSearchParams(new FormData(form)) });
      if (!begun.ok) {
        throw new Error(await begun.text());
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
