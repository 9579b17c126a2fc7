/** A number with what it counts: 1 route, 2 routes. */
export const plural = (n: number, what: string) => (n === 1 ? `1 ${what}` : `${n} ${what}s`)

/** Words of an access entry as they are set: `turned_away: 404, no hide`. */
export const setting = (set: Record<string, string>) =>
  Object.entries(set)
    .map(([word, text]) => (text ? `${word}: ${text}` : `no ${word}`))
    .join(', ')
