document.querySelectorAll(".pw-tabs").forEach(function (section) {
  var tabs = section.querySelectorAll("[role=tab]"), panels = section.querySelectorAll("[role=tabpanel]");
  tabs.forEach(function (tab, i) { tab.addEventListener("click", function () { panels.forEach(function (panel, k) { panel.hidden = k !== i; }); }); });
});
