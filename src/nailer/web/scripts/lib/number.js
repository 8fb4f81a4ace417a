// A number that is read at a glance, as the server writes it: 10 004.
export const grouped = (number) => String(number).replace(/\B(?=(\d{3})+$)/g, " ");
