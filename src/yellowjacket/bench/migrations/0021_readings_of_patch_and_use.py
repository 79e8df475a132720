"""Readings are found by rung and quantity: an index of those of no use leads through nearly all that there are."""

import django.db.models.deletion
from django.db import migrations, models


class Migration(migrations.Migration):

    dependencies = [
        ('bench', '0020_verdicts_on_lanes'),
    ]

    operations = [
        migrations.AlterField(
            model_name='reading',
            name='patch',
            field=models.ForeignKey(db_index=False, null=True, on_delete=django.db.models.deletion.CASCADE, related_name='readings', to='bench.patch'),
        ),
        migrations.AlterField(
            model_name='reading',
            name='rung',
            field=models.ForeignKey(db_index=False, on_delete=django.db.models.deletion.CASCADE, related_name='readings', to='bench.rung'),
        ),
        migrations.AlterField(
            model_name='reading',
            name='use',
            field=models.ForeignKey(db_index=False, null=True, on_delete=django.db.models.deletion.CASCADE, related_name='readings', to='bench.use'),
        ),
        migrations.AddIndex(
            model_name='reading',
            index=models.Index(condition=models.Q(('patch__isnull', False)), fields=['patch'], name='reading_of_patch'),
        ),
        migrations.AddIndex(
            model_name='reading',
            index=models.Index(condition=models.Q(('use__isnull', False)), fields=['use'], name='reading_at_use'),
        ),
    ]
