/** How often the arm comes by another way, in words. */
export const times = (n: number) => (n === 0 ? "never" : n === 1 ? "△ once" : `△ ${n} times`);
