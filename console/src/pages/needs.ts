import type { Cluster } from "../api";

// Need is something about a cluster that a person should deal with.
export type Need = { text: string; remedy: "start capture" | "take base" | "look at proof" | "none" };

// needs lists them, the most urgent first.
export function needs(c: Cluster): Need[] {
  const list: Need[] = [];
  const capture = c.capture;
  if (capture.state === "stopped") list.push({ text: `${c.name} is not being captured: what is committed now cannot be reached.`, remedy: "start capture" });
  else if (capture.problem) list.push({ text: `The capture of ${c.name} is in trouble: ${capture.problem}`, remedy: "none" });
  if (!c.lastBackup) list.push({ text: `${c.name} has no base backup: no moment can be reached.`, remedy: "take base" });
  else if (c.lastBackup.pageFaults > 0) list.push({ text: `The last base backup of ${c.name} holds ${c.lastBackup.pageFaults} damaged pages.`, remedy: "none" });
  if ((c.holes ?? []).length > 0) list.push({ text: `The captured WAL of ${c.name} has ${c.holes?.length} holes.`, remedy: "none" });
  if (c.lastProof?.verdict === "failed") list.push({ text: `The last proof of ${c.name} failed.`, remedy: "look at proof" });
  return list;
}
