/** Changes a field of the setup; gives what is wrong, or nothing. */
export type Put = (field: string, value: unknown, was: unknown, label?: string) => Promise<string>;
