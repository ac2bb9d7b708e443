// How figures, sizes and times are written.

export function size(bytes: number): string {
  if (bytes < 1024) return `${bytes} B`;
  const units = ["KiB", "MiB", "GiB", "TiB", "PiB"];
  let v = bytes / 1024;
  let i = 0;
  for (; v >= 1024 && i < units.length - 1; i++) v /= 1024;
  return `${v.toFixed(1)} ${units[i]}`;
}

export const count = (n: number): string => n.toLocaleString("en-US");

// of writes how many there are of something: 1 base backup, 3 base backups.
export const of = (n: number, what: string): string => (n === 1 ? `1 ${what}` : `${count(n)} ${what}s`);

const pad = (n: number, width = 2) => String(n).padStart(width, "0");

function offset(d: Date): string {
  const minutes = -d.getTimezoneOffset();
  const abs = Math.abs(minutes);
  return `${minutes < 0 ? "-" : "+"}${pad(Math.floor(abs / 60))}:${pad(abs % 60)}`;
}

// zone names the viewer's zone, in which all times are written, with its offset now.
export const zone = (now = new Date()): string => `${Intl.DateTimeFormat().resolvedOptions().timeZone}, ${offset(now)}`;

// when writes a time in the viewer's zone: with the date when it is not today's, and with the offset when that is another than
// now's. exact adds the milliseconds, by which a transaction is told from its neighbour.
export function when(iso: string, exact = false, now = new Date()): string {
  const d = new Date(iso);
  const parts = [`${pad(d.getHours())}:${pad(d.getMinutes())}:${pad(d.getSeconds())}${exact ? `.${pad(d.getMilliseconds(), 3)}` : ""}`];
  if (d.toDateString() !== now.toDateString()) parts.unshift(date(d));
  if (offset(d) !== offset(now)) parts.push(offset(d));
  return parts.join(" ");
}

// date writes a day.
export const date = (d: Date): string => `${d.getFullYear()}-${pad(d.getMonth() + 1)}-${pad(d.getDate())}`;

// clock writes the time of day only, for the ends of an axis.
export function clock(iso: string): string {
  const d = new Date(iso);
  return `${pad(d.getHours())}:${pad(d.getMinutes())}:${pad(d.getSeconds())}`;
}

// lag says how long ago something was complete.
export function ago(iso: string, now = Date.now()): string {
  const s = Math.max(0, (now - new Date(iso).getTime()) / 1000);
  if (s < 2) return "up to date";
  if (s < 120) return `${Math.round(s)} s behind`;
  if (s < 7200) return `${Math.round(s / 60)} min behind`;
  return `${Math.round(s / 3600)} h behind`;
}

// lasted writes a length of time.
export function lasted(seconds: number): string {
  if (seconds < 59.95) return `${seconds.toFixed(1)} s`;
  const whole = Math.round(seconds);
  const minutes = Math.floor(whole / 60);
  if (minutes < 60) return `${minutes} min ${whole % 60} s`;
  return `${Math.floor(minutes / 60)} h ${minutes % 60} min`;
}

// short is the end of an id, which is enough to name what it is the id of; the command line writes the same.
export const short = (id: string): string => id.slice(-8);

// shortened writes a text with its ids short.
export const shortened = (text: string): string => text.replace(/\b[0-9][0-9a-hjkmnp-tv-z]{25}\b/g, short);
