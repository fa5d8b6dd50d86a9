export type LookKind = 'picture' | 'sound' | 'film' | 'pdf' | 'text'

const kinds: [LookKind, string][] = [
  ['picture', 'png jpg jpeg gif webp avif bmp svg'],
  ['sound', 'mp3 ogg oga opus wav flac m4a aac'],
  ['film', 'mp4 m4v webm ogv mov'],
  ['pdf', 'pdf'],
  ['text', 'txt md csv tsv json geojson ndjson xml yaml yml toml ini conf log html htm css js ts tsx go py rs c h sh sql tex srt vtt'],
]

const byExtension = new Map(kinds.flatMap(([kind, extensions]) => extensions.split(' ').map((extension) => [extension, kind] as const)))

/** How a file can be looked at, by its name. */
export function lookKind(name: string): LookKind | undefined {
  const dot = name.lastIndexOf('.')
  if (dot <= 0) return 'text'
  return byExtension.get(name.slice(dot + 1).toLowerCase())
}
