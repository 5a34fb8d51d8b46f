// Prints when the sun rises and sets over Skerrin Roads on the first of each month, as a page of the almanac.
const latitude = 59.1;
const radians = (degrees) => (degrees * Math.PI) / 180;

const rows = [];
for (let month = 0; month < 12; month++) {
    const day = Date.UTC(2031, month, 1) / 86400000 - Date.UTC(2031, 0, 0) / 86400000;
    const declination = -23.44 * Math.cos(radians((360 / 365) * (day + 10)));
    const horizon = Math.sin(radians(-0.83)) - Math.sin(radians(latitude)) * Math.sin(radians(declination));
    const half = Math.acos(horizon / (Math.cos(radians(latitude)) * Math.cos(radians(declination)))) / radians(15);
    const clock = (hours) => `${String(Math.floor(hours)).padStart(2, "0")}:${String(Math.floor((hours % 1) * 60)).padStart(2, "0")}`;
    rows.push(`<li>2031-${String(month + 1).padStart(2, "0")}-01: ${clock(12 - half)} to ${clock(12 + half)}</li>`);
}
console.log(`<h2>Sun</h2>\n<ul>\n${rows.join("\n")}\n</ul>`);
