/** A run's report, or the certificate of a final pass, in each of its forms. */
export function Papers({ run, what }: { run: string; what: 'report' | 'certificate' }) {
  return (
    <p className="flex gap-3 pt-1.5 pr-2 text-small">
      <span className="text-soft">{what === 'report' ? 'Report:' : 'Certificate:'}</span>
      {(['html', 'csv', 'json'] as const).map((format) => (
        <a key={format} href={`/api/v1/runs/${run}/${what}?format=${format}`} target={format === 'html' ? '_blank' : undefined} rel="noreferrer" className="text-plumage hover:underline">
          {format === 'html' ? 'page' : format.toUpperCase()}
        </a>
      ))}
    </p>
  )
}
