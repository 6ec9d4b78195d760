document.querySelectorAll("form.cart").forEach(function (form) { form.addEventListener("submit", function () { form.classList.add("sent"); }); });
