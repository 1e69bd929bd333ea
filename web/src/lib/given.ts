/** The file of a chooser, which then can choose the same one again. */
export function givenFile(e: Event & { currentTarget: HTMLInputElement }): File | undefined {
  const found = e.currentTarget.files?.[0];
  e.currentTarget.value = "";
  return found;
}
