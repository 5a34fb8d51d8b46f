export const page = 1;
