(function () {
  var turn = 0, slides = document.querySelectorAll(".slide"), next = document.querySelector(".slider-next");
  if (next) next.addEventListener("click", function () { turn = (turn + 1) % slides.length; slides[turn].scrollIntoView(); });
  document.querySelectorAll("img.lazy").forEach(function (img) { img.src = img.dataset.src; });
  document.querySelectorAll(".countdown").forEach(function (p) { p.title = driftSettings.words; });
  document.querySelectorAll(".consent button").forEach(function (b) { b.addEventListener("click", function () { b.parentElement.remove(); }); });
})();
