/** By how much the service's clock is ahead of this browser's, in milliseconds: ages count by the service's. */
let ahead = 0;

/** An answer said what the service's clock shows. */
export function learnClock(said: string | null): void {
  const at = said === null ? NaN : Date.parse(said);
  if (!Number.isNaN(at)) ahead = at - Date.now();
}

/** What the service's clock shows, in milliseconds since 1970. */
export function serviceNow(): number {
  return Date.now() + ahead;
}

/** A moment in local time, with its zone. */
export function when(moment: string | null | undefined): string {
  if (!moment) return "–";
  return new Date(moment).toLocaleString("en-GB", {
    day: "2-digit",
    month: "short",
    year: "numeric",
    hour: "2-digit",
    minute: "2-digit",
    timeZoneName: "short",
  });
}

/** A length of time in words: `0.6 s`, `40 s`, `12 min`, `5 h`, `3 days`. */
export function span(seconds: number): string {
  if (seconds > 0 && seconds < 9.95) return `${seconds.toFixed(1)} s`;
  const whole = Math.max(0, Math.floor(seconds));
  if (whole < 120) return `${whole} s`;
  if (whole < 7200) return `${Math.floor(whole / 60)} min`;
  if (whole < 172800) return `${Math.floor(whole / 3600)} h`;
  return `${Math.floor(whole / 86400)} days`;
}

export function age(moment: string | null | undefined, now: string | number = serviceNow()): string {
  if (!moment) return "never";
  return span((new Date(now).getTime() - new Date(moment).getTime()) / 1000);
}

/** A moment to come: its day, and how far it is; one that has passed says so. */
export function until(moment: string, now: string | number = serviceNow()): string {
  const seconds = (new Date(moment).getTime() - new Date(now).getTime()) / 1000;
  const day = new Date(moment).toLocaleDateString("en-GB", { day: "2-digit", month: "short", year: "numeric" });
  return `${day}, ${seconds < 0 ? `${span(-seconds)} ago` : `in ${span(seconds)}`}`;
}

/** Bytes in decimal units: 1 kB is 1,000 bytes. */
export function size(count: number): string {
  let amount = count;
  for (const unit of ["B", "kB", "MB", "GB"]) {
    if (amount < 1000) return `${unit === "B" || amount >= 100 ? amount.toFixed(0) : amount.toFixed(1)} ${unit}`;
    amount /= 1000;
  }
  return `${amount.toFixed(1)} TB`;
}

export function some(names: string[], most = 6): string {
  return names.length > most ? `${names.slice(0, most).join(", ")} and ${names.length - most} more` : names.join(", ");
}
