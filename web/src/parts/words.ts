/** A number with what it counts: 1 route, 2 routes. */
export const plural = (n: number, what: string) => (n === 1 ? `1 ${what}` : `${n} ${what}s`)
