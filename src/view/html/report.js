"use strict";
(function () {
  document.documentElement.classList.add("js");
  var form = document.querySelector("form.filter");
  if (!form) return;
  var articles = Array.prototype.slice.call(document.querySelectorAll("article"));
  var texts = articles.map(function (a) { return a.textContent.toLowerCase(); });
  var status = document.getElementById("shown");
  function apply() {
    var words = form.elements.q.value.toLowerCase().split(/\s+/).filter(Boolean);
    var kind = form.elements.kind.value, all = form.elements.suppressed.checked, n = 0;
    articles.forEach(function (a, i) {
      var fits = (!kind || a.dataset.kind === kind) &&
        (all || !a.classList.contains("suppressed")) &&
        words.every(function (w) { return texts[i].indexOf(w) >= 0; });
      a.hidden = !fits;
      n += fits;
    });
    status.textContent = n + " of " + articles.length + " shown";
  }
  form.addEventListener("input", apply);
  form.addEventListener("submit", function (e) { e.preventDefault(); });
  document.addEventListener("keydown", function (e) {
    if (e.key === "/" && !/INPUT|SELECT|TEXTAREA/.test(e.target.tagName)) {
      e.preventDefault();
      form.elements.q.focus();
    }
  });
  apply();
})();
