/** The moment of the proof that is looked at: how many motions have been made. Apart from the rest of the view, since it
 * changes many times a second while it plays, and only few things depend on it. */
import { makeStore } from "./store";

const moment = makeStore(0);
export const getMoment = moment.get;
export const setMoment = moment.set;
export const useMoment = moment.use;
