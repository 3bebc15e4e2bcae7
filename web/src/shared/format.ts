/** A measured value with its unit; lengths with two decimals, counts with separators. */
export function reading(value: number | string | boolean, unit: string): string {
  if (typeof value === "boolean") return value ? "yes" : "no";
  if (typeof value === "string") return value;
  if (unit === "") return Number.isInteger(value) ? value.toLocaleString("en-GB") : value.toFixed(2);
  if (unit === "µm" || unit === "%") return `${value.toFixed(1)} ${unit}`;
  if (unit === "°") return `${value.toFixed(2)}°`;
  if (unit === "mm²") return `${value.toFixed(value < 100 ? 2 : 0)} ${unit}`;
  if (unit === "mm" && value > 0 && value < 0.005) return `${(value * 1000).toFixed(2)} µm`;
  return `${value.toFixed(2)} ${unit}`;
}

/** A number with its sign in front, a true minus. */
export function signed(value: number, digits = 0): string {
  const text = Math.abs(value).toFixed(digits);
  return Number(text) === 0 ? text : `${value > 0 ? "+" : "−"}${text}`;
}

export function bytes(count: number): string {
  return count < 1e6 ? `${Math.max(1, Math.round(count / 1e3))} kB` : `${(count / 1e6).toFixed(1)} MB`;
}

const DAY = new Intl.DateTimeFormat("en-GB", { weekday: "short", day: "numeric", month: "short" });
const FAR_DAY = new Intl.DateTimeFormat("en-GB", { day: "numeric", month: "short", year: "numeric" });
const MOMENT = new Intl.DateTimeFormat("en-GB", { day: "numeric", month: "short", hour: "2-digit", minute: "2-digit" });

/** A day with its weekday; one of another year with the year instead. */
export function day(iso: string): string {
  const date = new Date(iso);
  if (Number.isNaN(date.getTime())) return iso;
  return (date.getFullYear() === new Date().getFullYear() ? DAY : FAR_DAY).format(date);
}

export function moment(iso: string): string {
  return MOMENT.format(new Date(iso));
}

export function capital(text: string): string {
  return text.charAt(0).toUpperCase() + text.slice(1);
}

export function duration(minutes: number): string {
  return minutes < 90 ? `${Math.round(minutes)} min` : `${(minutes / 60).toFixed(1)} h`;
}
