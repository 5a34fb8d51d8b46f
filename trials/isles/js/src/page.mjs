/** A row for each station. */
export function rows(stations) {
  return stations.map((station) => `<tr><td>${station.name}</td><td>${station.depth}</td></tr>`).join("");
}
