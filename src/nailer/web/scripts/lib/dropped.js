// Reads what was dropped or chosen into a flat list: { below: [names], file }. Folders are walked.
async function entries(folder) {
  const reader = folder.createReader();
  const all = [];
  for (;;) {
    const some = await new Promise((resolve, reject) => reader.readEntries(resolve, reject));
    if (!some.length) return all;
    all.push(...some);
  }
}

async function walk(entry, above, found) {
  const below = [...above, entry.name];
  if (entry.isFile) found.push({ below, file: await new Promise((resolve, reject) => entry.file(resolve, reject)) });
  else for (const inside of await entries(entry)) await walk(inside, below, found);
}

export async function readDrop(transfer) {
  // The entries must be taken before the first wait: the browser empties the transfer afterwards.
  const tops = [...transfer.items]
    .filter((item) => item.kind === "file")
    .map((item) => item.webkitGetAsEntry?.() || item.getAsFile());
  const found = [];
  for (const top of tops) {
    if (top instanceof File) found.push({ below: [top.name], file: top });
    else if (top) await walk(top, [], found);
  }
  return found;
}

export function readChosen(list) {
  return [...list].map((file) => ({ below: (file.webkitRelativePath || file.name).split("/"), file }));
}
