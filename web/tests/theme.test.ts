import { describe, expect, it } from "vitest";
import { clock, deviationColour } from "../src/theme";

describe("a time", () => {
  it("is told in minutes, and in hours where there are any", () => {
    expect(clock(0)).toBe("0:00");
    expect(clock(59.6)).toBe("1:00");
    expect(clock(3599)).toBe("59:59");
    expect(clock(3661)).toBe("1:01:01");
    expect(clock(null)).toBe("–");
    expect(clock(undefined)).toBe("–");
  });
});

describe("the colour of a deviation", () => {
  const pale = deviationColour(0, 0.1);
  it("is the same within the band, on both sides", () => {
    expect(deviationColour(0.1, 0.1)).toEqual(pale);
    expect(deviationColour(-0.1, 0.1)).toEqual(pale);
  });
  it("goes to orange for what is left and to purple for what was cut too deep, and stays there", () => {
    const [r, , b] = deviationColour(0.5, 0.1),
      [r2, , b2] = deviationColour(-0.5, 0.1);
    expect(r).toBeGreaterThan(b);
    expect(b2).toBeGreaterThan(r2);
    const same = (x: number[], y: number[]) => x.forEach((v, i) => expect(v).toBeCloseTo(y[i], 2));
    same(deviationColour(9, 0.1), deviationColour(0.5, 0.1));
    same(deviationColour(-9, 0.1), deviationColour(-0.5, 0.1));
  });
  it("changes without jumps", () => {
    let before = deviationColour(-1, 0.1);
    for (let v = -1; v <= 1; v += 0.001) {
      const next = deviationColour(v, 0.1);
      next.forEach((c, i) => expect(Math.abs(c - before[i])).toBeLessThan(0.01));
      before = next;
    }
  });
});
