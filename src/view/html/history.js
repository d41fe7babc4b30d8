"use strict";
/* The heap over time: where the package runs it takes the place of the picture, tells
   values under the pointer, and a stretch of time can be marked to look at it closely. */
(function () {
  var figure = document.getElementById("heapfigure");
  var data = document.getElementById("heapdata");
  if (!figure || !data || !window.Dygraph) return;
  var style = getComputedStyle(document.documentElement);
  var colour = function (name) { return style.getPropertyValue(name).trim(); };
  var bytes = function (n) {
    var units = ["bytes", "KiB", "MiB", "GiB", "TiB"], u = 0;
    while (n >= 1024 && u < 4) { n /= 1024; u++; }
    return (u && n < 100 ? n.toFixed(1) : Math.round(n)) + " " + units[u];
  };
  var rows = JSON.parse(data.textContent), peak = +figure.dataset.peak;
  var place = document.createElement("div");
  place.className = "chart";
  place.setAttribute("role", "img");
  place.setAttribute("aria-labelledby", "timecaption");
  figure.insertBefore(place, figure.firstChild);
  try {
    new window.Dygraph(place, rows, {
      labels: ["s", "live heap"], labelsKMG2: true, fillGraph: true, includeZero: true,
      colors: [colour("--bar1")], strokeWidth: 2, axisLineColor: colour("--soft"),
      gridLineColor: colour("--line"), legend: "follow", xRangePad: 4,
      axes: {
        x: { axisLabelFormatter: function (t) { return +t.toFixed(3) + " s"; },
             valueFormatter: function (t) { return t.toFixed(2) + " s"; } },
        y: { axisLabelFormatter: bytes, valueFormatter: bytes, axisLabelWidth: 80 }
      },
      underlayCallback: function (canvas, area, graph) {
        var x = graph.toDomXCoord(peak);
        canvas.strokeStyle = colour("--bad");
        canvas.setLineDash([4, 3]);
        canvas.beginPath();
        canvas.moveTo(x, area.y);
        canvas.lineTo(x, area.y + area.h);
        canvas.stroke();
        canvas.setLineDash([]);
      }
    });
  } catch (e) {
    figure.removeChild(place);
    return;
  }
  figure.classList.add("drawn");
  figure.querySelector("figcaption").append(
    " Drag over a stretch of time to look at it closely, double-click for the whole.");
})();
