/** `3 devices`, `1 policy`, `2 policies`, `4 switches`: a number and its noun. */
export function counted(count: number, noun: string): string {
  return `${count.toLocaleString("en")} ${count === 1 ? noun : plural(noun)}`;
}

export function plural(noun: string): string {
  if (/[^aeiou]y$/.test(noun)) return noun.replace(/y$/, "ies");
  return /(s|x|ch|sh)$/.test(noun) ? `${noun}es` : `${noun}s`;
}
