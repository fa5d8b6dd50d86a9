/** Has the browser save a text as a file. */
export function saveText(name: string, text: string) {
  const link = document.createElement('a')
  link.href = URL.createObjectURL(new Blob([text], { type: 'text/plain' }))
  link.download = name
  link.click()
  URL.revokeObjectURL(link.href)
}
