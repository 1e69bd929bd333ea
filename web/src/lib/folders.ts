/** Files that were dropped or chosen, with those of whole folders. */

export interface Found {
  path: string;
  file: File;
}

async function entriesOf(folder: FileSystemDirectoryEntry): Promise<FileSystemEntry[]> {
  const reader = folder.createReader();
  const all: FileSystemEntry[] = [];
  for (;;) {
    const some = await new Promise<FileSystemEntry[]>((done, failed) => reader.readEntries(done, failed));
    if (!some.length) return all; // a browser gives a hundred at a time
    all.push(...some);
  }
}

async function walk(entry: FileSystemEntry, out: Found[]): Promise<void> {
  if (entry.isDirectory)
    for (const inner of await entriesOf(entry as FileSystemDirectoryEntry)) await walk(inner, out);
  else {
    const file = await new Promise<File>((done, failed) => (entry as FileSystemFileEntry).file(done, failed));
    out.push({ path: entry.fullPath.replace(/^\//, ""), file });
  }
}

/** All files below what was dropped. */
export async function everythingIn(data: DataTransfer): Promise<Found[]> {
  const entries = [...data.items].map((item) => item.webkitGetAsEntry()).filter((e) => e !== null);
  const files = [...data.files].map((file) => ({ path: file.name, file }));
  if (!entries.length) return files;
  const out: Found[] = [];
  for (const entry of entries) await walk(entry, out);
  return out;
}

/** All files that were chosen in a file dialog. */
export const allOf = (files: FileList): Found[] =>
  [...files].map((file) => ({ path: file.webkitRelativePath || file.name, file }));
