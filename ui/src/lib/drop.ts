/** Files of a drop, those in dropped folders too. */

function entryFiles(entry: FileSystemEntry): Promise<File[]> {
  return new Promise((resolve) => {
    if (entry.isFile) {
      (entry as FileSystemFileEntry).file((file) => resolve([file]), () => resolve([]));
      return;
    }
    const reader = (entry as FileSystemDirectoryEntry).createReader();
    const found: FileSystemEntry[] = [];
    // a folder is told in portions, the last one empty
    const more = () =>
      reader.readEntries(
        (entries) => {
          if (entries.length) {
            found.push(...entries);
            more();
          } else {
            void Promise.all(found.map(entryFiles)).then((lists) => resolve(lists.flat()));
          }
        },
        () => resolve([]),
      );
    more();
  });
}

export async function filesOf(transfer: DataTransfer): Promise<File[]> {
  const entries = [...transfer.items].map((item) => item.webkitGetAsEntry?.()).filter((e): e is FileSystemEntry => !!e);
  const files = entries.length ? (await Promise.all(entries.map(entryFiles))).flat() : [...transfer.files];
  return files.filter((file) => !file.name.startsWith(".")).sort((a, b) => a.name.localeCompare(b.name, undefined, { numeric: true }));
}

/** Whether a file may be a sheet; what it holds is for the server to say. */
export const isSheet = (file: { name: string }): boolean => /\.json$/i.test(file.name);
