// Modules out of the page itself: each becomes an address that only this page has, and is linked to those before it.
const addresses = {};
for (const [name, text] of JSON.parse(document.getElementById("modules").textContent)) {
  const linked = text.replace(/from "\.\/([a-z/]+\.js)"/g, (_, path) => `from "${addresses[path]}"`);
  addresses[name] = URL.createObjectURL(new Blob([linked], {type: "text/javascript"}));
}
import(addresses["offline.js"]).catch(error => { document.body.dataset.ready = "failed"; throw error; });
