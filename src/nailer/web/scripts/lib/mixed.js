// Parts of a component as one. Spreading them would read their getters once and for all.
export const mixed = (...parts) =>
  Object.defineProperties({}, Object.assign({}, ...parts.map((part) => Object.getOwnPropertyDescriptors(part))));
