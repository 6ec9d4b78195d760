document.addEventListener("DOMContentLoaded", function () {
  document.querySelectorAll("nav a").forEach(function (link) {
    if (link.getAttribute("href") === location.pathname) { link.setAttribute("aria-current", "page"); }
  });
});
