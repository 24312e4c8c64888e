/** Words that agree with their number: "1 row", "3 rows", "2 faces". */
export const counted = (n: number, one: string, many = `${one}s`): string => `${n} ${n === 1 ? one : many}`;
