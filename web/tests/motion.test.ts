import { beforeEach, describe, expect, it, vi } from "vitest";

describe("whether anything moves", () => {
  beforeEach(() => {
    vi.useFakeTimers();
    vi.stubGlobal("window", globalThis);
    vi.resetModules();
  });

  it("begins with the first step and rests a while after the last", async () => {
    const { isMoving, move, onMotion } = await import("../src/viewport/motion");
    const heard: boolean[] = [];
    const stop = onMotion(() => heard.push(isMoving()));
    move();
    vi.advanceTimersByTime(200);
    move();
    vi.advanceTimersByTime(200);
    expect(isMoving()).toBe(true);
    vi.advanceTimersByTime(60);
    expect(isMoving()).toBe(false);
    expect(heard).toEqual([true, false]);
    stop();
    move();
    expect(heard).toHaveLength(2);
  });

  it("does not take a slow picture for rest while a hand holds the view", async () => {
    const { hold, isMoving, move, onMotion } = await import("../src/viewport/motion");
    const heard: boolean[] = [];
    onMotion(() => heard.push(isMoving()));
    hold(true);
    expect(heard).toEqual([]); // holding is not moving
    for (let k = 0; k < 5; k++) {
      move();
      vi.advanceTimersByTime(340);
    }
    expect(heard).toEqual([true]);
    hold(false);
    vi.advanceTimersByTime(260);
    expect(heard).toEqual([true, false]);
  });
});
