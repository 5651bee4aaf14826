// The part of an address behind "#" never reaches the server: hand it on to the page that follows.
const form = document.querySelector("form[action='/enter']");
if (form) form.action += location.hash;
